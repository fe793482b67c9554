-- How the two ends' clocks stood: what the run itself tells, and what it was judged by once its neighbours had their say.
-- Both are a ClockRelation of core/clock.py as JSON; NULL until the run is judged (again).
ALTER TABLE run ADD COLUMN clock_estimate TEXT;
ALTER TABLE run ADD COLUMN clock_relation TEXT;
CREATE INDEX run_by_pair ON run(probe_id, far_end_id, begun_us);

-- The listener's buffer follows a change of route, and clocks are related by media too: all again, in turn.
UPDATE run SET stale = 1 WHERE state = 'done';

-- Imported files are kept beside the database (imports/<sha256>), so that a codec can be named afterwards.
-- ``choices`` is what people said of them (JSON): codecs by stream, pairs, roles by log, test point, time, beside the
-- day sheet or not. A log may tell of several hosts now.
ALTER TABLE imported ADD COLUMN choices TEXT NOT NULL DEFAULT '{}';
UPDATE imported SET result = json_set(
  json_remove(result, '$.echo'), '$.echoes',
  CASE WHEN json_extract(result, '$.echo') IS NULL THEN json('[]')
    ELSE json_array(json_patch(
      '{"started": null, "runs": 1, "duplicates": 0, "notes": [], "strange": [], "minutes": []}',
      json_extract(result, '$.echo'))) END
);

-- Whoever was removed can sign in no more; what they did stays theirs.
ALTER TABLE user ADD COLUMN removed_us INTEGER;

-- What a brief said before it was changed: the report tells it.
CREATE TABLE brief_change (
  id         INTEGER PRIMARY KEY,
  site_id    INTEGER NOT NULL REFERENCES site(id),
  at_us      INTEGER NOT NULL,
  changed_by INTEGER REFERENCES user(id),
  changes    TEXT NOT NULL
) STRICT;
CREATE INDEX brief_change_by_site ON brief_change(site_id, at_us);

-- What people call a run, and what they noted of it.
ALTER TABLE run ADD COLUMN name TEXT NOT NULL DEFAULT '';
ALTER TABLE run ADD COLUMN note TEXT NOT NULL DEFAULT '';

-- Whether the far end took the key, when a probe last looked; NULL where that was not tried.
ALTER TABLE distance ADD COLUMN key_fits INTEGER;
