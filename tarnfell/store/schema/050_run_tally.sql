-- How much there is of each site's runs that are done or failed. Every page of a site asks, and every look of the clerk at
-- all of them; counted each time, the answer would grow with all runs of all sites. Kept here by the database itself, so
-- that no way of writing a run can forget it. Runs are never deleted.
CREATE TABLE run_tally (
  site_id INTEGER PRIMARY KEY REFERENCES site(id),
  calls   INTEGER NOT NULL,
  judged  INTEGER NOT NULL,  -- runs
  failed  INTEGER NOT NULL,  -- runs
  changes INTEGER NOT NULL   -- counts up with each that ends, or is judged anew
) STRICT;

INSERT INTO run_tally (site_id, calls, judged, failed, changes)
SELECT site_id, sum(calls), count(judged_us), sum(state = 'failed'), count(*)
FROM run_job WHERE state IN ('done', 'failed') GROUP BY site_id;

CREATE TRIGGER run_tally_of_new AFTER INSERT ON run
BEGIN
  INSERT INTO run_tally (site_id, calls, judged, failed, changes)
  SELECT site_id, NEW.calls, NEW.judged_us IS NOT NULL, state = 'failed', 1
  FROM job WHERE id = NEW.id AND state IN ('done', 'failed')
  ON CONFLICT (site_id) DO UPDATE SET calls = calls + excluded.calls, judged = judged + excluded.judged,
    failed = failed + excluded.failed, changes = changes + 1;
END;

CREATE TRIGGER run_tally_of_state AFTER UPDATE OF state ON job WHEN OLD.state <> NEW.state
BEGIN
  INSERT INTO run_tally (site_id, calls, judged, failed, changes)
  SELECT NEW.site_id, ended * calls, ended * (judged_us IS NOT NULL), (NEW.state = 'failed') - (OLD.state = 'failed'), 1
  FROM (
    SELECT calls, judged_us, (NEW.state IN ('done', 'failed')) - (OLD.state IN ('done', 'failed')) AS ended
    FROM run WHERE id = NEW.id
  ) WHERE true
  ON CONFLICT (site_id) DO UPDATE SET calls = calls + excluded.calls, judged = judged + excluded.judged,
    failed = failed + excluded.failed, changes = changes + 1;
END;

CREATE TRIGGER run_tally_of_judged AFTER UPDATE OF calls, judged_us ON run
WHEN OLD.judged_us IS NOT NEW.judged_us OR OLD.calls <> NEW.calls
BEGIN
  UPDATE run_tally SET calls = calls + NEW.calls - OLD.calls, changes = changes + 1,
    judged = judged + (NEW.judged_us IS NOT NULL) - (OLD.judged_us IS NOT NULL)
  WHERE site_id = (SELECT site_id FROM job WHERE id = NEW.id AND state IN ('done', 'failed'));
END;

-- When samples were sent: without it, each of these small figures is read from beside ten minutes of samples.
CREATE INDEX sample_cell_sent
  ON sample_cell(watch_id, start_us, first_us, last_us, answered, lost, not_sent, without_us);

-- Open jobs are few among all that there ever were, and the probe, the clerk and the start page ask for them all the time;
-- bound values cannot use an index that holds the open ones alone.
DROP INDEX job_open;
CREATE INDEX job_of_probe ON job(probe_id, state, kind);
CREATE INDEX job_of_site ON job(site_id, state, kind);
-- What ended since then.
DROP INDEX job_ended;
CREATE INDEX job_ended ON job(site_id, ended_us);
