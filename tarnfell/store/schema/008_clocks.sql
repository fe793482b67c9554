-- How the two ends' clocks stood: what the run itself tells, and what it was judged by once its neighbours had their say.
-- Both are a ClockRelation of core/clock.py as JSON; NULL until the run is judged (again).
ALTER TABLE run ADD COLUMN clock_estimate TEXT;
ALTER TABLE run ADD COLUMN clock_relation TEXT;
CREATE INDEX run_by_pair ON run(probe_id, far_end_id, begun_us);

-- The listener's buffer follows a change of route, and clocks are related by media too: all again, in turn.
UPDATE run SET stale = 1 WHERE state = 'done';
