CREATE TABLE sites (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  name VARCHAR(200) NOT NULL,
  created_at DATETIME(6) NOT NULL,
  UNIQUE KEY sites_name (name)
);

CREATE TABLE networks (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  name VARCHAR(200) NOT NULL,
  subnet VARCHAR(50) NOT NULL,
  UNIQUE KEY networks_subnet (site_id, subnet),
  CONSTRAINT networks_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

CREATE TABLE mac_prefixes (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  prefix VARCHAR(30) NOT NULL,
  maker VARCHAR(200) NOT NULL,
  UNIQUE KEY mac_prefixes_prefix (site_id, prefix),
  CONSTRAINT mac_prefixes_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

CREATE TABLE register_entries (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  name VARCHAR(1000) NOT NULL,
  mac VARCHAR(17) NOT NULL,
  addr VARCHAR(45) NOT NULL,
  vendor VARCHAR(1000) NOT NULL,
  model VARCHAR(1000) NOT NULL,
  kind VARCHAR(1000) NOT NULL,
  location VARCHAR(1000) NOT NULL,
  responsible VARCHAR(1000) NOT NULL,
  note VARCHAR(1000) NOT NULL,
  extra LONGTEXT NOT NULL,
  KEY register_entries_mac (site_id, mac),
  CONSTRAINT register_entries_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

CREATE TABLE sweeps (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  vantage VARCHAR(200) NOT NULL,
  ranges MEDIUMTEXT NOT NULL,
  exclusions MEDIUMTEXT NOT NULL,
  pace VARCHAR(20) NOT NULL,
  seed BIGINT UNSIGNED NOT NULL,
  state VARCHAR(20) NOT NULL,
  began DATETIME(6) NOT NULL,
  ended DATETIME(6) NULL,
  addresses BIGINT UNSIGNED NOT NULL,
  answered BIGINT UNSIGNED NOT NULL,
  sent BIGINT UNSIGNED NOT NULL,
  gateway VARCHAR(45) NOT NULL,
  on_link VARCHAR(1000) NOT NULL,
  warnings TEXT NOT NULL,
  failure TEXT NOT NULL,
  appeared INT UNSIGNED NOT NULL,
  vanished INT UNSIGNED NOT NULL,
  moved INT UNSIGNED NOT NULL,
  changed INT UNSIGNED NOT NULL,
  KEY sweeps_site (site_id, id),
  CONSTRAINT sweeps_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

CREATE TABLE sightings (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  sweep_id BIGINT UNSIGNED NOT NULL,
  addr VARBINARY(16) NOT NULL,
  mac VARCHAR(17) NOT NULL,
  ring INT NOT NULL,
  learned_from VARCHAR(200) NOT NULL,
  answered BOOLEAN NOT NULL,
  first_at DATETIME(6) NOT NULL,
  items MEDIUMTEXT NOT NULL,
  UNIQUE KEY sightings_who (sweep_id, addr, mac),
  CONSTRAINT sightings_sweep FOREIGN KEY (sweep_id) REFERENCES sweeps (id) ON DELETE CASCADE
);

CREATE TABLE devices (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  entry_id BIGINT UNSIGNED NOT NULL,
  name VARCHAR(255) NOT NULL,
  addr VARBINARY(16) NOT NULL,
  mac VARCHAR(17) NOT NULL,
  kind VARCHAR(40) NOT NULL,
  vendor VARCHAR(255) NOT NULL,
  model VARCHAR(255) NOT NULL,
  os VARCHAR(255) NOT NULL,
  standing VARCHAR(20) NOT NULL,
  presence VARCHAR(20) NOT NULL,
  first_seen DATETIME(6) NULL,
  last_seen DATETIME(6) NULL,
  last_sweep BIGINT UNSIGNED NOT NULL,
  contested BOOLEAN NOT NULL,
  search TEXT NOT NULL,
  record MEDIUMTEXT NOT NULL,
  KEY devices_addr (site_id, addr, id),
  KEY devices_name (site_id, name, id),
  KEY devices_kind (site_id, kind, id),
  KEY devices_vendor (site_id, vendor, id),
  KEY devices_standing (site_id, standing, id),
  KEY devices_last_seen (site_id, last_seen, id),
  CONSTRAINT devices_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

CREATE TABLE settings (
  name VARCHAR(100) NOT NULL PRIMARY KEY,
  value TEXT NOT NULL
);
