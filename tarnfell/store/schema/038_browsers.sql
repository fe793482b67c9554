-- A page in a browser that tests from its desk: reached by a link like a probe, and never a program of ours.
ALTER TABLE probe ADD COLUMN kind TEXT NOT NULL DEFAULT 'program' CHECK (kind IN ('program', 'browser'));
-- 1: calls from browsers count for the verdict like those of probes.
ALTER TABLE site ADD COLUMN browser_counts INTEGER NOT NULL DEFAULT 0;

-- What a link asks of a browser.
CREATE TABLE browser_link (
  probe_id INTEGER PRIMARY KEY REFERENCES probe(id) ON DELETE CASCADE,
  codec    TEXT NOT NULL,
  ptime_ms INTEGER NOT NULL,
  calls    INTEGER NOT NULL CHECK (calls BETWEEN 1 AND 20),
  seconds  REAL NOT NULL
) STRICT;

-- A run with a browser until both halves of its packets are one record, which is then delivered like a probe's.
CREATE TABLE browser_run (
  run_id        INTEGER PRIMARY KEY REFERENCES run(id) ON DELETE CASCADE,
  token         TEXT NOT NULL,      -- the name of the far end's half
  half_sha256   TEXT,               -- of what the page delivered
  half_us       INTEGER,            -- when that came
  not_before_us INTEGER NOT NULL DEFAULT 0
) STRICT;
