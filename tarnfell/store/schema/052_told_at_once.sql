-- When calls were on, by the clock of their probe, as their records have it: what is asked for the calls of some days
-- would else go through all that there ever were. NULL until the first of them has come in.
ALTER TABLE job ADD COLUMN started_us INTEGER;
UPDATE job SET started_us = (SELECT min(started_us) FROM call WHERE run_id = job.id) WHERE kind = 'calls';
CREATE INDEX job_started ON job(site_id, started_us) WHERE started_us IS NOT NULL;

CREATE TRIGGER job_started_with_call AFTER INSERT ON call
BEGIN
  UPDATE job SET started_us = NEW.started_us
  WHERE id = NEW.run_id AND (started_us IS NULL OR started_us > NEW.started_us);
END;

-- All samples of a watch that are packed, kept as its cells are written: counted each time, the answer would grow with
-- its days. Cells are never deleted. A pause between two cells is time without samples where it is longer than from one
-- round to the next can be: LEAST_GAP_US of tarnfell/store/watches.py.
CREATE TABLE watch_tally (
  watch_id   INTEGER PRIMARY KEY REFERENCES watch(id),
  first_us   INTEGER NOT NULL,
  last_us    INTEGER NOT NULL,
  answered   INTEGER NOT NULL,
  lost       INTEGER NOT NULL,
  not_sent   INTEGER NOT NULL,
  without_us INTEGER NOT NULL
) STRICT;

INSERT INTO watch_tally (watch_id, first_us, last_us, answered, lost, not_sent, without_us)
SELECT watch_id, min(first_us), max(last_us), sum(answered), sum(lost), sum(not_sent),
  sum(without_us) + sum(iif(pause_us > 65000000, pause_us, 0))
FROM (
  SELECT *, lead(first_us) OVER (PARTITION BY watch_id ORDER BY start_us) - last_us AS pause_us FROM sample_cell
) GROUP BY watch_id;

-- With the newest sample of the cell before, and the oldest of the one after.
CREATE VIEW cell_beside AS
  SELECT watch_id, start_us,
    (SELECT last_us FROM sample_cell other WHERE other.watch_id = sample_cell.watch_id
      AND other.start_us < sample_cell.start_us ORDER BY other.start_us DESC LIMIT 1) AS before_us,
    (SELECT first_us FROM sample_cell other WHERE other.watch_id = sample_cell.watch_id
      AND other.start_us > sample_cell.start_us ORDER BY other.start_us LIMIT 1) AS after_us
  FROM sample_cell;

CREATE TRIGGER watch_tally_of_new AFTER INSERT ON sample_cell
BEGIN
  INSERT INTO watch_tally (watch_id, first_us, last_us, answered, lost, not_sent, without_us)
  SELECT NEW.watch_id, NEW.first_us, NEW.last_us, NEW.answered, NEW.lost, NEW.not_sent, NEW.without_us
    + iif(NEW.first_us - before_us > 65000000, NEW.first_us - before_us, 0)
    + iif(after_us - NEW.last_us > 65000000, after_us - NEW.last_us, 0)
    - iif(after_us - before_us > 65000000, after_us - before_us, 0)
  FROM cell_beside WHERE watch_id = NEW.watch_id AND start_us = NEW.start_us
  ON CONFLICT (watch_id) DO UPDATE SET first_us = min(first_us, excluded.first_us),
    last_us = max(last_us, excluded.last_us), answered = answered + excluded.answered, lost = lost + excluded.lost,
    not_sent = not_sent + excluded.not_sent, without_us = without_us + excluded.without_us;
END;

CREATE TRIGGER watch_tally_of_changed
AFTER UPDATE OF first_us, last_us, answered, lost, not_sent, without_us ON sample_cell
BEGIN
  UPDATE watch_tally SET first_us = min(first_us, NEW.first_us), last_us = max(last_us, NEW.last_us),
    answered = answered + NEW.answered - OLD.answered, lost = lost + NEW.lost - OLD.lost,
    not_sent = not_sent + NEW.not_sent - OLD.not_sent,
    without_us = without_us + NEW.without_us - OLD.without_us + (
      SELECT iif(NEW.first_us - before_us > 65000000, NEW.first_us - before_us, 0)
        + iif(after_us - NEW.last_us > 65000000, after_us - NEW.last_us, 0)
        - iif(OLD.first_us - before_us > 65000000, OLD.first_us - before_us, 0)
        - iif(after_us - OLD.last_us > 65000000, after_us - OLD.last_us, 0)
      FROM cell_beside WHERE watch_id = NEW.watch_id AND start_us = NEW.start_us
    )
  WHERE watch_id = NEW.watch_id;
END;

-- Figures in the sentences of what watches found are written as everywhere: read once more.
UPDATE watch SET changes = changes + 1;
