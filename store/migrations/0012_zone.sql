-- The time zone of a site, by its name in the tz database; '' for that of whoever looks.
ALTER TABLE sites ADD COLUMN zone VARCHAR(64) NOT NULL DEFAULT '';
