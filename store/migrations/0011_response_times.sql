-- How long devices took over their answers, in the form of evidence.PackTimes: apart from what else passes, as lists of them are read of all devices at once.
ALTER TABLE drafts ADD COLUMN times VARBINARY(2000) NOT NULL DEFAULT '';
ALTER TABLE sightings ADD COLUMN times VARBINARY(2000) NOT NULL DEFAULT '';

-- Which version of its firmware a site wants on each of a model.
CREATE TABLE firmware_wanted (
  site_id BIGINT UNSIGNED NOT NULL,
  vendor VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  model VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  version VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  PRIMARY KEY (site_id, vendor, model),
  CONSTRAINT firmware_wanted_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);
