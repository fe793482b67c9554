-- Of much evidence more than the evaluation takes long to compute: what stands beside the verdict in a report does too.
CREATE TABLE computed (
  site_id INTEGER NOT NULL REFERENCES site(id),
  what    TEXT NOT NULL,
  mark    TEXT NOT NULL,   -- of the evidence that it was computed from
  body    BLOB NOT NULL,   -- JSON
  made_us INTEGER NOT NULL,
  PRIMARY KEY (site_id, what)
) STRICT;
INSERT INTO computed (site_id, what, mark, body, made_us)
SELECT site_id, 'evaluation', mark, body, made_us FROM evaluation;
DROP TABLE evaluation;
