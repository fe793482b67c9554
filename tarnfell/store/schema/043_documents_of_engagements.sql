-- Documents are made of a whole engagement too.
CREATE TABLE task_of (
  id            INTEGER PRIMARY KEY,
  kind          TEXT NOT NULL,
  site_id       INTEGER REFERENCES site(id),
  engagement_id INTEGER REFERENCES engagement(id) ON DELETE CASCADE,
  mark          TEXT NOT NULL,
  state         TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'being made', 'ready', 'failed')),
  tries         INTEGER NOT NULL DEFAULT 0,
  not_before_us INTEGER NOT NULL DEFAULT 0,
  asked_by      INTEGER REFERENCES user(id),
  asked_us      INTEGER NOT NULL,
  ended_us      INTEGER,
  failure       TEXT,
  sha256        TEXT,
  CHECK ((site_id IS NULL) <> (engagement_id IS NULL))
) STRICT;
INSERT INTO task_of (id, kind, site_id, mark, state, tries, not_before_us, asked_by, asked_us, ended_us, failure, sha256)
  SELECT id, kind, site_id, mark, state, tries, not_before_us, asked_by, asked_us, ended_us, failure, sha256 FROM task;
DROP TABLE task;
ALTER TABLE task_of RENAME TO task;
CREATE INDEX task_waiting ON task(id) WHERE state IN ('waiting', 'being made');
CREATE INDEX task_by_owner ON task(site_id, engagement_id, kind);
