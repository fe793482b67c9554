-- Both tables held their blobs in the tree of their key, where a row longer than a quarter of a page (1 kB) goes on in a
-- page of its own, however little that is. Batches of ten rounds, and ten minutes of rounds each five seconds, are little
-- more than that: two thirds of what they took were empty.
CREATE TABLE sample_batch_now (
  watch_id   INTEGER NOT NULL REFERENCES watch(id),
  first_us   INTEGER NOT NULL,
  last_us    INTEGER NOT NULL,
  answered   INTEGER NOT NULL,
  lost       INTEGER NOT NULL,
  not_sent   INTEGER NOT NULL,
  one_in     INTEGER NOT NULL,       -- thinned to one of so many by a probe that had no more room
  record     BLOB NOT NULL,
  UNIQUE (watch_id, first_us)
) STRICT;
INSERT INTO sample_batch_now SELECT * FROM sample_batch ORDER BY watch_id, first_us;
DROP TABLE sample_batch;
ALTER TABLE sample_batch_now RENAME TO sample_batch;
CREATE INDEX sample_batch_counts ON sample_batch(watch_id, first_us, last_us, answered, lost, not_sent, one_in);

CREATE TABLE sample_cell_now (
  watch_id   INTEGER NOT NULL REFERENCES watch(id),
  start_us   INTEGER NOT NULL,       -- a multiple of ten minutes since 1970
  first_us   INTEGER NOT NULL,
  last_us    INTEGER NOT NULL,
  answered   INTEGER NOT NULL,
  lost       INTEGER NOT NULL,
  not_sent   INTEGER NOT NULL,
  without_us INTEGER NOT NULL,       -- between its first and last round, without any
  tens       BLOB NOT NULL,          -- each place over the ten minutes
  minutes    BLOB NOT NULL,          -- and minute by minute
  rounds     BLOB NOT NULL,
  UNIQUE (watch_id, start_us)
) STRICT;
INSERT INTO sample_cell_now SELECT * FROM sample_cell ORDER BY watch_id, start_us;
DROP TABLE sample_cell;
ALTER TABLE sample_cell_now RENAME TO sample_cell;
CREATE INDEX sample_cell_sent
  ON sample_cell(watch_id, start_us, first_us, last_us, answered, lost, not_sent, without_us);
