-- A watch asks places on the way as well: JSON of tarnfell/wire/kinds/watch.py, EchoTarget; each so many-th round large.
ALTER TABLE watch ADD COLUMN echoes TEXT NOT NULL DEFAULT '{}';
ALTER TABLE watch ADD COLUMN large_every INTEGER NOT NULL DEFAULT 0;

-- Whom a watch has asked, far ends by time stamps and others by echoes; a cell's columns are by this number.
CREATE TABLE watch_place (
  watch_id   INTEGER NOT NULL REFERENCES watch(id),
  number     INTEGER NOT NULL,
  role       TEXT NOT NULL,
  address    TEXT NOT NULL,          -- of a far end that is asked by time stamps: empty
  far_end_id INTEGER REFERENCES far_end(id),
  PRIMARY KEY (watch_id, number)
) STRICT, WITHOUT ROWID;

-- Ten minutes of samples, all places side by side, packed by tarnfell/work/watch/cells.py.
CREATE TABLE sample_cell (
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
  PRIMARY KEY (watch_id, start_us)
) STRICT, WITHOUT ROWID;

-- What the samples of a watch say, computed by the clerk; JSON of tarnfell/work/watch/reading.py.
CREATE TABLE watch_reading (
  watch_id   INTEGER PRIMARY KEY REFERENCES watch(id),
  until_us   INTEGER NOT NULL,       -- the newest sample in it
  cells      INTEGER NOT NULL,       -- how many cells it rests on, and
  changed    INTEGER NOT NULL,       -- how often they had changed: late samples open it again
  made_us    INTEGER NOT NULL,
  reading    TEXT NOT NULL
) STRICT;
ALTER TABLE watch ADD COLUMN changes INTEGER NOT NULL DEFAULT 0;
