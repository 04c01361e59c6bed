-- What a site says of its networks, for the rules that judge it.
ALTER TABLE networks
  ADD COLUMN purpose VARCHAR(20) NOT NULL DEFAULT '',
  ADD COLUMN gateway VARCHAR(45) NOT NULL DEFAULT '',
  ADD COLUMN pool TEXT NOT NULL DEFAULT '';

-- Files of rules identify devices, or judge them.
ALTER TABLE rule_files
  ADD COLUMN purpose VARCHAR(20) NOT NULL DEFAULT 'identify';

-- Findings with their life. subject is the device of one that is of a device alone; grp is what the devices of another share.
CREATE TABLE findings (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  rule VARCHAR(63) NOT NULL,
  grp VARBINARY(200) NOT NULL,
  about VARBINARY(200) NOT NULL,
  subject BIGINT UNSIGNED NOT NULL,
  severity TINYINT UNSIGNED NOT NULL,
  state VARCHAR(10) NOT NULL,
  body TEXT NOT NULL,
  since DATETIME(6) NOT NULL,
  sweep_id BIGINT UNSIGNED NOT NULL,
  times INT UNSIGNED NOT NULL,
  closed_at DATETIME(6) NULL,
  closed_by VARCHAR(10) NOT NULL,
  closing BIGINT UNSIGNED NOT NULL,
  accepted_by VARCHAR(100) NOT NULL,
  accepted_at DATETIME(6) NULL,
  reason TEXT NOT NULL,
  until DATETIME(6) NULL,
  UNIQUE KEY findings_key (site_id, rule, subject, grp, about),
  KEY findings_list (site_id, state, severity, id),
  KEY findings_group (site_id, rule, grp),
  KEY findings_subject (subject),
  KEY findings_until (until),
  CONSTRAINT findings_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

CREATE TABLE finding_devices (
  finding_id BIGINT UNSIGNED NOT NULL,
  device_id BIGINT UNSIGNED NOT NULL,
  PRIMARY KEY (finding_id, device_id),
  KEY finding_devices_device (device_id),
  CONSTRAINT finding_devices_finding FOREIGN KEY (finding_id) REFERENCES findings (id) ON DELETE CASCADE
);

-- What devices share under the rules that judge several together.
CREATE TABLE finding_marks (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  device_id BIGINT UNSIGNED NOT NULL,
  rule VARCHAR(63) NOT NULL,
  grp VARBINARY(200) NOT NULL,
  value VARBINARY(200) NOT NULL,
  KEY finding_marks_group (site_id, rule, grp, device_id),
  KEY finding_marks_device (device_id),
  CONSTRAINT finding_marks_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

-- Devices that have changed since they were judged, and what they share that is to be judged anew.
CREATE TABLE unjudged (
  site_id BIGINT UNSIGNED NOT NULL,
  device_id BIGINT UNSIGNED NOT NULL,
  PRIMARY KEY (site_id, device_id),
  CONSTRAINT unjudged_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

CREATE TABLE unjudged_groups (
  site_id BIGINT UNSIGNED NOT NULL,
  rule VARCHAR(63) NOT NULL,
  grp VARBINARY(200) NOT NULL,
  PRIMARY KEY (site_id, rule, grp),
  CONSTRAINT unjudged_groups_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

-- Up to which sweep a device was judged, and when that changes by time alone.
CREATE TABLE judged (
  device_id BIGINT UNSIGNED NOT NULL PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  sweep_id BIGINT UNSIGNED NOT NULL,
  due DATETIME(6) NULL,
  KEY judged_due (site_id, due),
  CONSTRAINT judged_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

CREATE TABLE finding_settings (
  site_id BIGINT UNSIGNED NOT NULL,
  rule VARCHAR(63) NOT NULL,
  setting TEXT NOT NULL,
  PRIMARY KEY (site_id, rule),
  CONSTRAINT finding_settings_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

-- Lists of a site's that rules look things up in, as CSV.
CREATE TABLE finding_lists (
  site_id BIGINT UNSIGNED NOT NULL,
  name VARCHAR(20) NOT NULL,
  text MEDIUMTEXT NOT NULL,
  changed_by VARCHAR(100) NOT NULL,
  changed_at DATETIME(6) NOT NULL,
  PRIMARY KEY (site_id, name),
  CONSTRAINT finding_lists_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

INSERT INTO unjudged (site_id, device_id) SELECT site_id, id FROM devices;
