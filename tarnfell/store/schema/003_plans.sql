-- What load is to be placed and when; and each carrying-out of it.

-- ``shape`` is JSON: {"steps","call_s","rounds"}. ``next_us`` is the next start while the plan is scheduled.
CREATE TABLE plan (
  id         INTEGER PRIMARY KEY,
  site_id    INTEGER NOT NULL REFERENCES site(id),
  name       TEXT NOT NULL,
  probe_id   INTEGER NOT NULL REFERENCES probe(id),
  far_end_id INTEGER NOT NULL REFERENCES far_end(id),
  codec      TEXT NOT NULL,
  ptime_ms   INTEGER NOT NULL,
  dscp       INTEGER NOT NULL CHECK (dscp BETWEEN 0 AND 63),
  shape      TEXT NOT NULL,
  form       TEXT NOT NULL,
  state      TEXT NOT NULL CHECK (state IN ('draft', 'scheduled', 'ended', 'dropped')),
  start_us   INTEGER,
  rule       TEXT,
  next_us    INTEGER,
  made_by    INTEGER REFERENCES user(id),
  created_us INTEGER NOT NULL
) STRICT;
CREATE INDEX plan_by_site ON plan(site_id);
CREATE INDEX plan_due ON plan(next_us) WHERE state = 'scheduled';

-- One carrying-out of a plan: its steps in order, each a run.
CREATE TABLE series (
  id         INTEGER PRIMARY KEY,
  plan_id    INTEGER NOT NULL REFERENCES plan(id),
  site_id    INTEGER NOT NULL REFERENCES site(id),
  state      TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'done', 'stopped', 'missed', 'failed')),
  due_us     INTEGER NOT NULL,
  began_us   INTEGER,
  ended_us   INTEGER,
  words      TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX series_by_site ON series(site_id, due_us);
CREATE INDEX series_open ON series(state) WHERE state IN ('waiting', 'running');

-- A run may be one step of one round of a series.
ALTER TABLE run ADD COLUMN series_id INTEGER REFERENCES series(id);
ALTER TABLE run ADD COLUMN round INTEGER;
CREATE INDEX run_by_series ON run(series_id) WHERE series_id IS NOT NULL;
