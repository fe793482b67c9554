-- What a watch has done beside its samples, again and again: calls, the calls that are needed, line fills, and names and
-- services. What became of the newest start is told here; its job where it began.
CREATE TABLE routine (
  watch_id   INTEGER NOT NULL REFERENCES watch(id),
  what       TEXT NOT NULL CHECK (what IN ('call', 'needed', 'fill', 'services')),
  every_s    INTEGER NOT NULL,
  asked_by   INTEGER REFERENCES user(id),
  next_us    INTEGER NOT NULL,
  begun_us   INTEGER,                -- the newest start that took place
  left_us    INTEGER,                -- the newest start that was left out, and
  left_words TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (watch_id, what)
) STRICT, WITHOUT ROWID;

-- What names and services answered, each of them a row of JSON of tarnfell/wire/kinds/services.py.
CREATE TABLE services_told (
  job_id   INTEGER PRIMARY KEY REFERENCES job(id),
  probe_id INTEGER NOT NULL REFERENCES probe(id),
  at_us    INTEGER NOT NULL,
  told     TEXT NOT NULL
) STRICT;
CREATE INDEX services_told_by_time ON services_told(probe_id, at_us);

-- Up to when samples were let go of; cells of before that have their minutes alone.
ALTER TABLE watch ADD COLUMN let_go_us INTEGER NOT NULL DEFAULT 0;

-- By how much a probe's clock is ahead of this server's, as it told when it last made contact; null: it does not tell.
ALTER TABLE probe ADD COLUMN clock_off_us INTEGER;
