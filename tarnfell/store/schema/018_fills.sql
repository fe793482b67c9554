-- What came of filling a line: as the probe told it (JSON of tarnfell/wire/kinds/fill.py: FillResult), and what the
-- clerk judged of it (JSON of tarnfell/core/line/values.py: LineFilled). Stale: it is to be judged, or judged again.
CREATE TABLE fill (
  job_id     INTEGER PRIMARY KEY REFERENCES job(id),
  site_id    INTEGER NOT NULL REFERENCES site(id),
  far_end_id INTEGER NOT NULL REFERENCES far_end(id),
  asked      TEXT NOT NULL,
  at_us      INTEGER NOT NULL,
  told       TEXT NOT NULL,
  filled     TEXT,
  failure    TEXT,
  judged_us  INTEGER,
  stale      INTEGER NOT NULL DEFAULT 1
) STRICT;
CREATE INDEX fill_of_site ON fill(site_id, at_us);
CREATE INDEX fill_stale ON fill(stale) WHERE stale = 1;
