-- Evidence: what a device says is stored once for as long as it stays the same, by the hash of its content.
CREATE TABLE fact_sets (
  site_id BIGINT UNSIGNED NOT NULL,
  hash BINARY(16) NOT NULL,
  facts MEDIUMBLOB NOT NULL,
  PRIMARY KEY (site_id, hash),
  CONSTRAINT fact_sets_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

RENAME TABLE sightings TO sightings_before;

-- A sweep that has ended has its sightings here, and they stay as they are.
CREATE TABLE sightings (
  sweep_id BIGINT UNSIGNED NOT NULL,
  addr VARBINARY(16) NOT NULL,
  mac VARBINARY(6) NOT NULL,
  unit VARCHAR(64) NOT NULL,
  ring SMALLINT NOT NULL,
  learned_from VARCHAR(200) NOT NULL,
  answered BOOLEAN NOT NULL,
  whole BOOLEAN NOT NULL,
  first_at DATETIME(6) NOT NULL,
  facts BINARY(16) NOT NULL,
  passing MEDIUMBLOB NOT NULL,
  PRIMARY KEY (sweep_id, addr, mac, unit),
  CONSTRAINT sightings_of_sweep FOREIGN KEY (sweep_id) REFERENCES sweeps (id) ON DELETE CASCADE
);

-- While a sweep runs, its sightings grow here, each with its facts.
CREATE TABLE drafts (
  sweep_id BIGINT UNSIGNED NOT NULL,
  addr VARBINARY(16) NOT NULL,
  mac VARBINARY(6) NOT NULL,
  unit VARCHAR(64) NOT NULL,
  ring SMALLINT NOT NULL,
  learned_from VARCHAR(200) NOT NULL,
  answered BOOLEAN NOT NULL,
  whole BOOLEAN NOT NULL,
  first_at DATETIME(6) NOT NULL,
  facts BINARY(16) NOT NULL,
  passing MEDIUMBLOB NOT NULL,
  fact_set MEDIUMBLOB NOT NULL,
  PRIMARY KEY (sweep_id, addr, mac, unit),
  CONSTRAINT drafts_of_sweep FOREIGN KEY (sweep_id) REFERENCES sweeps (id) ON DELETE CASCADE
);

-- Derived: can be thrown away, and is rebuilt. Which device each sighting of a sweep is, in the order of the primary key above.
CREATE TABLE sweep_devices (
  sweep_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  devices LONGBLOB NOT NULL,
  CONSTRAINT sweep_devices_sweep FOREIGN KEY (sweep_id) REFERENCES sweeps (id) ON DELETE CASCADE
);

ALTER TABLE decisions ADD COLUMN other TEXT NOT NULL DEFAULT '';

ALTER TABLE sweeps
  ADD COLUMN name VARCHAR(200) NOT NULL DEFAULT '',
  ADD COLUMN pinned BOOLEAN NOT NULL DEFAULT FALSE,
  ADD COLUMN settled BOOLEAN NOT NULL DEFAULT FALSE,
  ADD COLUMN thinned BOOLEAN NOT NULL DEFAULT FALSE;

ALTER TABLE sites
  ADD COLUMN stale VARCHAR(1000) NOT NULL DEFAULT '',
  ADD COLUMN keep_days INT NOT NULL DEFAULT 0,
  ADD COLUMN keep_weekly_days INT NOT NULL DEFAULT 0;

ALTER TABLE devices
  ADD COLUMN group_name VARCHAR(255) NOT NULL DEFAULT '',
  ADD COLUMN facts BINARY(16) NOT NULL DEFAULT '',
  ADD COLUMN facts_at DATETIME(6) NULL,
  ADD COLUMN passing MEDIUMBLOB NOT NULL DEFAULT '';

CREATE TABLE device_terms (
  site_id BIGINT UNSIGNED NOT NULL,
  term BIGINT UNSIGNED NOT NULL,
  device_id BIGINT UNSIGNED NOT NULL,
  PRIMARY KEY (site_id, term, device_id),
  KEY device_terms_device (device_id),
  CONSTRAINT device_terms_device FOREIGN KEY (device_id) REFERENCES devices (id) ON DELETE CASCADE
);

-- What devices are found by in words, apart from their rows, as it is looked through from end to end: words of each device's own, and those
-- that it shares with others of its like, which are stored once.
CREATE TABLE device_words (
  site_id BIGINT UNSIGNED NOT NULL,
  device_id BIGINT UNSIGNED NOT NULL,
  own MEDIUMBLOB NOT NULL,
  shared BINARY(16) NOT NULL,
  PRIMARY KEY (site_id, device_id),
  KEY device_words_device (device_id),
  KEY device_words_shared (site_id, shared),
  CONSTRAINT device_words_device FOREIGN KEY (device_id) REFERENCES devices (id) ON DELETE CASCADE
);

CREATE TABLE shared_words (
  site_id BIGINT UNSIGNED NOT NULL,
  hash BINARY(16) NOT NULL,
  words MEDIUMBLOB NOT NULL,
  PRIMARY KEY (site_id, hash),
  CONSTRAINT shared_words_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

INSERT INTO device_words SELECT site_id, id, search, '' FROM devices;

ALTER TABLE devices DROP COLUMN search;

CREATE TABLE presence (
  device_id BIGINT UNSIGNED NOT NULL,
  vantage VARCHAR(255) NOT NULL,
  site_id BIGINT UNSIGNED NOT NULL,
  addr VARBINARY(16) NOT NULL,
  addrs TEXT NOT NULL,
  reasons TEXT NOT NULL,
  on_segment BOOLEAN NOT NULL,
  seen DATETIME(6) NOT NULL,
  sweep_id BIGINT UNSIGNED NOT NULL,
  asked BIGINT UNSIGNED NOT NULL,
  PRIMARY KEY (device_id, vantage),
  KEY presence_site (site_id, vantage, addr),
  CONSTRAINT presence_device FOREIGN KEY (device_id) REFERENCES devices (id) ON DELETE CASCADE
);

CREATE TABLE tenures (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  device_id BIGINT UNSIGNED NOT NULL,
  addr VARBINARY(16) NOT NULL,
  mac VARBINARY(6) NOT NULL,
  unit VARCHAR(64) NOT NULL,
  vantage VARCHAR(255) NOT NULL,
  since DATETIME(6) NOT NULL,
  since_sweep BIGINT UNSIGNED NOT NULL,
  until DATETIME(6) NULL,
  until_sweep BIGINT UNSIGNED NOT NULL,
  ended BOOLEAN NOT NULL,
  KEY tenures_addr (site_id, addr, since),
  KEY tenures_mac (site_id, mac, since),
  KEY tenures_device (device_id, since),
  CONSTRAINT tenures_device FOREIGN KEY (device_id) REFERENCES devices (id) ON DELETE CASCADE
);

-- What came of requests that a client may send again: they are carried out once. A status of 0 is one under way.
CREATE TABLE kept_answers (
  who VARCHAR(255) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  request_key VARCHAR(255) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  fingerprint BINARY(32) NOT NULL,
  status INT NOT NULL,
  content_type VARCHAR(100) NOT NULL,
  answer MEDIUMBLOB NOT NULL,
  at DATETIME(6) NOT NULL,
  PRIMARY KEY (who, request_key),
  KEY kept_answers_at (at)
);

-- The ledger of a site as the sweeps that are settled have left it: what is computed anew begins there.
CREATE TABLE checkpoint_devices (
  site_id BIGINT UNSIGNED NOT NULL,
  device_id BIGINT UNSIGNED NOT NULL,
  record MEDIUMTEXT NOT NULL,
  places MEDIUMTEXT NOT NULL,
  facts BINARY(16) NOT NULL,
  facts_at DATETIME(6) NULL,
  passing MEDIUMBLOB NOT NULL,
  last_seen DATETIME(6) NULL,
  last_sweep BIGINT UNSIGNED NOT NULL,
  PRIMARY KEY (site_id, device_id),
  CONSTRAINT checkpoint_devices_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

ALTER TABLE leases ADD COLUMN since DATETIME(6) NULL;
