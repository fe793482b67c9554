-- What a probe is to sample without end: a wanted state. ``version`` grows with each change of it.
CREATE TABLE watch (
  id           INTEGER PRIMARY KEY,
  probe_id     INTEGER NOT NULL UNIQUE REFERENCES probe(id),
  far_end_id   INTEGER NOT NULL REFERENCES far_end(id),
  interval_ms  INTEGER NOT NULL,
  dscp         INTEGER NOT NULL CHECK (dscp BETWEEN 0 AND 63),
  wanted       INTEGER NOT NULL CHECK (wanted IN (0, 1)),
  version      INTEGER NOT NULL,
  asked_by     INTEGER REFERENCES user(id),
  changed_us   INTEGER NOT NULL,
  told_version INTEGER,          -- the one the probe said it runs; NULL while it runs none
  trouble      TEXT              -- what is in the way of samples; NULL for nothing
) STRICT;

-- Samples as they came in, packed; a batch is named by its first sample's time. Counts are of the batch.
CREATE TABLE sample_batch (
  watch_id   INTEGER NOT NULL REFERENCES watch(id),
  first_us   INTEGER NOT NULL,
  last_us    INTEGER NOT NULL,
  answered   INTEGER NOT NULL,
  lost       INTEGER NOT NULL,
  not_sent   INTEGER NOT NULL,
  one_in     INTEGER NOT NULL,   -- thinned to one of so many by a probe that had no more room
  record     BLOB NOT NULL,
  PRIMARY KEY (watch_id, first_us)
) STRICT, WITHOUT ROWID;
CREATE INDEX sample_batch_counts ON sample_batch(watch_id, first_us, last_us, answered, lost, not_sent, one_in);
