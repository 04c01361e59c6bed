ALTER TABLE sites ADD COLUMN name_servers VARCHAR(1000) NOT NULL DEFAULT '';

ALTER TABLE sweeps
  ADD COLUMN ports TEXT NOT NULL DEFAULT '',
  ADD COLUMN figures TEXT NOT NULL DEFAULT '',
  ADD COLUMN place MEDIUMTEXT NOT NULL DEFAULT '',
  ADD COLUMN started_by VARCHAR(100) NOT NULL DEFAULT '';

ALTER TABLE sightings
  ADD COLUMN whole BOOLEAN NOT NULL DEFAULT FALSE,
  ADD COLUMN device_id BIGINT UNSIGNED NOT NULL DEFAULT 0,
  ADD KEY sightings_device (device_id, sweep_id);

ALTER TABLE devices
  ADD COLUMN traits BOOLEAN NOT NULL DEFAULT FALSE,
  ADD KEY devices_by_name (site_id, name, addr, id),
  ADD KEY devices_by_kind (site_id, kind, addr, id),
  ADD KEY devices_by_vendor (site_id, vendor, addr, id),
  ADD KEY devices_by_model (site_id, model, addr, id),
  ADD KEY devices_by_os (site_id, os, addr, id),
  ADD KEY devices_by_mac (site_id, mac, addr, id),
  ADD KEY devices_by_standing (site_id, standing, addr, id),
  ADD KEY devices_by_presence (site_id, presence, addr, id),
  ADD KEY devices_by_first_seen (site_id, first_seen, addr, id),
  ADD KEY devices_by_last_seen (site_id, last_seen, addr, id),
  DROP KEY devices_name, DROP KEY devices_kind, DROP KEY devices_vendor, DROP KEY devices_standing, DROP KEY devices_last_seen;

CREATE TABLE device_counts (
  site_id BIGINT UNSIGNED NOT NULL,
  standing VARCHAR(20) NOT NULL,
  presence VARCHAR(20) NOT NULL,
  kind VARCHAR(40) NOT NULL,
  contested BOOLEAN NOT NULL,
  devices INT UNSIGNED NOT NULL,
  PRIMARY KEY (site_id, standing, presence, kind, contested),
  CONSTRAINT device_counts_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

INSERT INTO device_counts
  SELECT site_id, standing, presence, kind, contested, COUNT(*) FROM devices GROUP BY site_id, standing, presence, kind, contested;

CREATE TABLE sweep_log (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  sweep_id BIGINT UNSIGNED NOT NULL,
  at DATETIME(6) NOT NULL,
  text TEXT NOT NULL,
  KEY sweep_log_sweep (sweep_id, id),
  CONSTRAINT sweep_log_sweep FOREIGN KEY (sweep_id) REFERENCES sweeps (id) ON DELETE CASCADE
);

CREATE TABLE users (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(100) NOT NULL,
  role VARCHAR(20) NOT NULL,
  hash VARCHAR(200) NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY users_name (name)
);

CREATE TABLE tokens (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  user_id BIGINT UNSIGNED NOT NULL,
  label VARCHAR(100) NOT NULL,
  hash BINARY(32) NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY tokens_hash (hash),
  CONSTRAINT tokens_user FOREIGN KEY (user_id) REFERENCES users (id) ON DELETE CASCADE
);

CREATE TABLE audit (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  at DATETIME(6) NOT NULL,
  who VARCHAR(100) NOT NULL,
  role VARCHAR(20) NOT NULL,
  origin VARCHAR(100) NOT NULL,
  action VARCHAR(100) NOT NULL,
  subject VARCHAR(1000) NOT NULL,
  outcome INT NOT NULL
);

INSERT INTO users (name, role, hash, created_at)
  SELECT 'administrator', 'administer', value, UTC_TIMESTAMP(6) FROM settings WHERE name = 'console.password';

DELETE FROM settings WHERE name = 'console.password';
