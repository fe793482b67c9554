-- What was decided of a site's cause, known by its key, leg and direction: dismissed, or with a note.
CREATE TABLE cause_decision (
  id         INTEGER PRIMARY KEY,
  site_id    INTEGER NOT NULL REFERENCES site(id),
  key        TEXT NOT NULL,
  leg        TEXT NOT NULL,
  direction  TEXT NOT NULL,
  dismissed  INTEGER NOT NULL,
  words      TEXT NOT NULL,           -- empty: what was decided before is taken back
  decided_us INTEGER NOT NULL,
  decided_by INTEGER REFERENCES user(id)
) STRICT;
CREATE INDEX cause_decision_by_site ON cause_decision(site_id, id);
