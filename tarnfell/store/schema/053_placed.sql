-- Runs that somebody asked for are few among those that a watch places all day: the list of them, and their number, would
-- else be looked for among all that there ever were. What a run was placed for never changes.
ALTER TABLE job ADD COLUMN placed INTEGER NOT NULL DEFAULT 0;
UPDATE job SET placed = 1 WHERE id IN (SELECT id FROM run WHERE purpose = 'placed');
CREATE INDEX job_placed ON job(site_id, created_us) WHERE placed = 1;

CREATE TRIGGER job_placed_with_run AFTER INSERT ON run WHEN NEW.purpose = 'placed'
BEGIN
  UPDATE job SET placed = 1 WHERE id = NEW.id;
END;

DROP VIEW run_job;
CREATE VIEW run_job AS
  SELECT run.*, job.site_id, job.probe_id, job.state, job.asked_by, job.created_us, job.taken_us, job.begun_us,
    job.ended_us, job.medium, job.stop_reason, job.failure, job.failure_code, job.server_reachable, job.placed
  FROM run JOIN job ON job.id = run.id;
