-- Line fills that are to come: at a time, or again and again in the site's own time. ``asked`` is JSON of
-- tarnfell/store/fills.py: FillAsked; ``last_words`` say why the newest start was left out, and are empty where it was not.
CREATE TABLE fill_plan (
  id         INTEGER PRIMARY KEY,
  site_id    INTEGER NOT NULL REFERENCES site(id),
  probe_id   INTEGER NOT NULL REFERENCES probe(id),
  asked      TEXT NOT NULL,
  start_us   INTEGER NOT NULL,
  rule       TEXT,
  next_us    INTEGER,
  state      TEXT NOT NULL CHECK (state IN ('scheduled', 'ended', 'dropped')),
  last_us    INTEGER,
  last_job   INTEGER REFERENCES job(id),
  last_words TEXT NOT NULL DEFAULT '',
  made_by    INTEGER REFERENCES user(id),
  created_us INTEGER NOT NULL
) STRICT;
CREATE INDEX fill_plan_due ON fill_plan(next_us) WHERE state = 'scheduled';
