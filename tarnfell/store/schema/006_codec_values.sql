-- What a consultant puts in place of a codec's planning values, for one engagement.
CREATE TABLE codec_value (
  engagement_id INTEGER NOT NULL REFERENCES engagement(id),
  codec         TEXT NOT NULL,
  ie            REAL NOT NULL,
  bpl           REAL NOT NULL,
  why           TEXT NOT NULL,
  set_by        INTEGER REFERENCES user(id),
  set_us        INTEGER NOT NULL,
  PRIMARY KEY (engagement_id, codec)
) STRICT, WITHOUT ROWID;

-- ``stale`` is 1 while the run's figures rest on values that have changed since; its packets are judged again in turn.
ALTER TABLE run ADD COLUMN stale INTEGER NOT NULL DEFAULT 0;
ALTER TABLE run ADD COLUMN judged_us INTEGER;
UPDATE run SET judged_us = ended_us WHERE state = 'done';
CREATE INDEX run_stale ON run(id) WHERE stale = 1;
