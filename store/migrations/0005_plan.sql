-- What somebody has asked of a sweep beside where, how hard and at which ports, as JSON.
ALTER TABLE sweeps ADD COLUMN plan TEXT NOT NULL DEFAULT '';
