-- A digest of what a watch found, so that an evaluation that rests on it is made anew when that changes.
ALTER TABLE watch_reading ADD COLUMN found TEXT NOT NULL DEFAULT '';
UPDATE watch SET changes = changes + 1;
