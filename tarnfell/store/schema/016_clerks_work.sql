-- What follows from all evidence of a site, as it was last computed; mark says of which evidence, brief and version.
CREATE TABLE evaluation (
  site_id INTEGER PRIMARY KEY REFERENCES site(id),
  mark    TEXT NOT NULL,
  body    BLOB NOT NULL,   -- JSON of tarnfell/core/verdict/site.py: Evaluation
  made_us INTEGER NOT NULL
) STRICT;

-- What people ask for and the clerk makes. mark says of what; the file is in the folder "made".
CREATE TABLE task (
  id            INTEGER PRIMARY KEY,
  kind          TEXT NOT NULL,
  site_id       INTEGER NOT NULL REFERENCES site(id),
  mark          TEXT NOT NULL,
  state         TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'being made', 'ready', 'failed')),
  tries         INTEGER NOT NULL DEFAULT 0,
  not_before_us INTEGER NOT NULL DEFAULT 0,
  asked_by      INTEGER REFERENCES user(id),
  asked_us      INTEGER NOT NULL,
  ended_us      INTEGER,
  failure       TEXT,
  sha256        TEXT
) STRICT;
CREATE INDEX task_waiting ON task(id) WHERE state IN ('waiting', 'being made');
CREATE INDEX task_by_site ON task(site_id, kind);
-- Whether a site's evidence has changed is asked often.
CREATE INDEX job_ended ON job(site_id, state) WHERE state IN ('done', 'failed');
