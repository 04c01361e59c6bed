-- What each sweep has found changed; written with the ledger, and rebuilt with it.
CREATE TABLE changes (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  sweep_id BIGINT UNSIGNED NOT NULL,
  device_id BIGINT UNSIGNED NOT NULL,
  kind VARCHAR(20) NOT NULL,
  attribute VARCHAR(20) NOT NULL,
  was VARCHAR(1000) NOT NULL,
  became VARCHAR(1000) NOT NULL,
  KEY changes_site (site_id, id),
  KEY changes_sweep (sweep_id, id),
  KEY changes_device (device_id, id),
  CONSTRAINT changes_sweep FOREIGN KEY (sweep_id) REFERENCES sweeps (id) ON DELETE CASCADE
);
