-- Fields of devices that have no column of their own, by which lists are sorted and filtered all the same.
CREATE TABLE device_fields (
  site_id BIGINT UNSIGNED NOT NULL,
  device_id BIGINT UNSIGNED NOT NULL,
  field VARCHAR(60) CHARACTER SET ascii COLLATE ascii_bin NOT NULL,
  value VARCHAR(255) NOT NULL,
  PRIMARY KEY (site_id, device_id, field),
  KEY device_fields_value (site_id, field, value, device_id),
  KEY device_fields_device (device_id),
  CONSTRAINT device_fields_device FOREIGN KEY (device_id) REFERENCES devices (id) ON DELETE CASCADE
);
