-- What each leg of a watched path came to, as JSON of tarnfell/core/days/depths.py; empty where it was not read since.
ALTER TABLE watch_reading ADD COLUMN legs TEXT NOT NULL DEFAULT '';
UPDATE watch SET changes = changes + 1;
