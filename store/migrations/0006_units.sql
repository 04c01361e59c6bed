-- Devices that have no address of their own stand behind the address of a gateway, by the name of their unit there.
ALTER TABLE sightings
  ADD COLUMN unit VARCHAR(64) NOT NULL DEFAULT '',
  ADD UNIQUE KEY sightings_whose (sweep_id, addr, mac, unit),
  DROP KEY sightings_who;
