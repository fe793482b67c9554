-- What a verdict rests on: moments instead of calls, the worst stretch of a call, runs cut or never begun, and remedies.

ALTER TABLE site RENAME COLUMN required_calls TO required_moments;
UPDATE preset SET targets = json_remove(json_set(targets, '$.required_moments', json_extract(targets, '$.required_calls')),
                                        '$.required_calls')
  WHERE json_extract(targets, '$.required_calls') IS NOT NULL;

-- MOS of the worst ten seconds of a call that still counts as acceptable. NULL: not asked.
ALTER TABLE site ADD COLUMN min_stretch_mos REAL DEFAULT 3.1;
UPDATE site SET min_stretch_mos = 2.6 WHERE target_mos < 3.8;
ALTER TABLE direction ADD COLUMN worst_stretch_mos REAL;

-- How a run failed or was cut (wire/failures.py). ``server_reachable`` tells which side was away.
ALTER TABLE run ADD COLUMN failure_code TEXT;
ALTER TABLE run ADD COLUMN cut_reason TEXT;
ALTER TABLE run ADD COLUMN cut_after_s REAL;
ALTER TABLE run ADD COLUMN server_reachable INTEGER;

-- When something was mended at a site. ``set_aside`` is 1 where what was measured before counts no more.
CREATE TABLE remedy (
  id         INTEGER PRIMARY KEY,
  site_id    INTEGER NOT NULL REFERENCES site(id),
  at_us      INTEGER NOT NULL,
  words      TEXT NOT NULL,
  set_aside  INTEGER NOT NULL DEFAULT 1,
  marked_by  INTEGER REFERENCES user(id),
  created_us INTEGER NOT NULL
) STRICT;
CREATE INDEX remedy_by_site ON remedy(site_id, at_us);

-- Quality is judged by other bounds than before (worst stretch, unknown delay, wideband's own scale): all again, in turn.
UPDATE run SET stale = 1 WHERE state = 'done';
