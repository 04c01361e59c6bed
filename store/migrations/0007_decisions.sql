-- What people say of devices, apart from what is computed. Known is by what the device was known then; held_by is the device that a
-- decision applies to now, 0 for none; ended_by is the decision that took its place.
CREATE TABLE decisions (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  kind VARCHAR(20) NOT NULL,
  device_id BIGINT UNSIGNED NOT NULL,
  held_by BIGINT UNSIGNED NOT NULL,
  known TEXT NOT NULL,
  text TEXT NOT NULL,
  who VARCHAR(100) NOT NULL,
  at DATETIME(6) NOT NULL,
  ended_by BIGINT UNSIGNED NOT NULL DEFAULT 0,
  undone_by VARCHAR(100) NOT NULL DEFAULT '',
  undone_at DATETIME(6) NULL,
  KEY decisions_site (site_id, ended_by, id),
  KEY decisions_device (device_id),
  KEY decisions_held (held_by),
  CONSTRAINT decisions_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

INSERT INTO decisions (site_id, kind, device_id, held_by, known, text, who, at)
  SELECT site_id, 'note', id, id, JSON_OBJECT('macs', JSON_EXTRACT(record, '$.MACs'), 'addrs', JSON_EXTRACT(record, '$.Addrs'), 'entry', entry_id),
    JSON_VALUE(record, '$.Note'), '', COALESCE(last_seen, UTC_TIMESTAMP(6))
  FROM devices WHERE JSON_VALUE(record, '$.Note') <> '';

INSERT INTO decisions (site_id, kind, device_id, held_by, known, text, who, at)
  SELECT site_id, 'aside', id, id, JSON_OBJECT('macs', JSON_EXTRACT(record, '$.MACs'), 'addrs', JSON_EXTRACT(record, '$.Addrs'), 'entry', entry_id),
    JSON_VALUE(record, '$.Aside.Reason'), COALESCE(JSON_VALUE(record, '$.Aside.By'), ''), COALESCE(last_seen, UTC_TIMESTAMP(6))
  FROM devices WHERE JSON_VALUE(record, '$.Aside.Reason') <> '';
