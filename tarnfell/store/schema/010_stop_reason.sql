-- Why a run is stopped before its end: 'asked' by somebody, or 'heavy-loss'. NULL: it is not.
ALTER TABLE run ADD COLUMN stop_reason TEXT CHECK (stop_reason IN ('asked', 'heavy-loss'));
UPDATE run SET stop_reason = CASE
  WHEN EXISTS (SELECT 1 FROM run_event WHERE run_id = run.id AND words LIKE 'Stopped by itself:%') THEN 'heavy-loss'
  ELSE 'asked' END
WHERE stop_asked = 1;
ALTER TABLE run DROP COLUMN stop_asked;
