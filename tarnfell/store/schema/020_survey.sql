-- Places of a walk-about survey: a name and the job that looked there; what the probe told (JSON of
-- tarnfell/wire/kinds/look.py: LookResult), once whole and once without the packets and each round trip, as it is shown;
-- and what the clerk judged of it (tarnfell/core/survey.py: Place).
CREATE TABLE survey_place (
  job_id     INTEGER PRIMARY KEY REFERENCES job(id),
  site_id    INTEGER NOT NULL REFERENCES site(id),
  far_end_id INTEGER NOT NULL REFERENCES far_end(id),
  name       TEXT NOT NULL,
  codec      TEXT NOT NULL,
  ptime_ms   INTEGER NOT NULL,
  whole      TEXT,
  told       TEXT,
  judged     TEXT,
  failure    TEXT,
  stale      INTEGER NOT NULL DEFAULT 0,
  removed_us INTEGER
) STRICT;
CREATE INDEX survey_of_site ON survey_place(site_id, job_id);
CREATE INDEX survey_stale ON survey_place(stale) WHERE stale = 1;
