-- A metered line: what loads may move at the site in a day, both ways together, in megabytes. Null: as much as they take.
ALTER TABLE site ADD COLUMN metered_mb INTEGER;
