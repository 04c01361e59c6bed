CREATE TABLE credentials (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  name VARCHAR(100) NOT NULL,
  version VARCHAR(10) NOT NULL,
  user VARCHAR(100) NOT NULL,
  auth VARCHAR(20) NOT NULL,
  priv VARCHAR(20) NOT NULL,
  sealed BLOB NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY credentials_name (site_id, name),
  CONSTRAINT credentials_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

CREATE TABLE rule_files (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  name VARCHAR(100) NOT NULL,
  text MEDIUMTEXT NOT NULL,
  active BOOLEAN NOT NULL,
  changed_by VARCHAR(100) NOT NULL,
  changed_at DATETIME(6) NOT NULL,
  UNIQUE KEY rule_files_name (site_id, name),
  CONSTRAINT rule_files_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

CREATE TABLE leases (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  addr VARCHAR(64) NOT NULL,
  mac VARCHAR(20) NOT NULL,
  name VARCHAR(255) NOT NULL,
  client VARCHAR(255) NOT NULL,
  until DATETIME(6) NULL,
  UNIQUE KEY leases_addr (site_id, addr),
  CONSTRAINT leases_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

ALTER TABLE devices
  ADD COLUMN firmware VARCHAR(255) NOT NULL DEFAULT '',
  ADD COLUMN strength INT NOT NULL DEFAULT 0,
  ADD COLUMN services TEXT NOT NULL DEFAULT '',
  ADD KEY devices_by_firmware (site_id, firmware, addr, id),
  ADD KEY devices_by_strength (site_id, strength, addr, id);
