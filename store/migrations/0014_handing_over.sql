-- What was done to many devices at once, with all that takes it back.
CREATE TABLE acts (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  kind VARCHAR(20) NOT NULL,
  text TEXT NOT NULL,
  until DATETIME(6) NULL,
  done_by VARCHAR(255) NOT NULL,
  at DATETIME(6) NOT NULL,
  steps LONGTEXT NOT NULL,
  undone_by VARCHAR(255) NOT NULL,
  undone_at DATETIME(6) NULL,
  KEY acts_site (site_id, id),
  CONSTRAINT acts_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);

-- That a finding is so, and is to be put right: the other side of accepting it.
ALTER TABLE findings
  ADD COLUMN confirmed_by VARCHAR(255) NOT NULL DEFAULT '',
  ADD COLUMN confirmed_at DATETIME(6) NULL;

-- Filters of devices with their columns, extracts of them for somebody, and groups that are filled by a filter.
CREATE TABLE views (
  id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY,
  site_id BIGINT UNSIGNED NOT NULL,
  kind VARCHAR(10) NOT NULL,
  name VARCHAR(200) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL,
  audience TEXT NOT NULL,
  filter TEXT NOT NULL,
  columns_shown TEXT NOT NULL,
  changed_by VARCHAR(255) NOT NULL,
  changed_at DATETIME(6) NOT NULL,
  UNIQUE KEY views_name (site_id, kind, name),
  CONSTRAINT views_site FOREIGN KEY (site_id) REFERENCES sites (id) ON DELETE CASCADE
);
