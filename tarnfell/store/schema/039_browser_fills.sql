-- A link may also ask its browser to fill the line, so many seconds each way; 0: it does not.
ALTER TABLE browser_link ADD COLUMN fill_s REAL NOT NULL DEFAULT 0;

-- What a browser measures, calls or a filled line, until both halves of its packets are one record.
CREATE TABLE browser_half (
  job_id        INTEGER PRIMARY KEY REFERENCES job(id) ON DELETE CASCADE,
  token         TEXT NOT NULL,      -- the name of the far end's half
  half_sha256   TEXT,               -- of what the page delivered
  half_us       INTEGER,            -- when that came
  not_before_us INTEGER NOT NULL DEFAULT 0
) STRICT;
INSERT INTO browser_half SELECT run_id, token, half_sha256, half_us, not_before_us FROM browser_run;
DROP TABLE browser_run;
