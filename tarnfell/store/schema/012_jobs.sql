-- One table for everything a probe is asked to do: its kind, and its life. Kinds are those of tarnfell/wire/kinds.
CREATE TABLE job (
  id               INTEGER PRIMARY KEY,
  site_id          INTEGER NOT NULL REFERENCES site(id),
  probe_id         INTEGER NOT NULL REFERENCES probe(id),
  kind             TEXT NOT NULL,
  arguments        TEXT NOT NULL DEFAULT '{}',  -- JSON; of calls they are in run
  state            TEXT NOT NULL CHECK (state IN ('waiting', 'taken', 'running', 'done', 'failed')),
  asked_by         INTEGER REFERENCES user(id),
  created_us       INTEGER NOT NULL,
  taken_us         INTEGER,                     -- when a probe last took it
  begun_us         INTEGER,
  ended_us         INTEGER,
  medium           TEXT,                        -- the probe's link when it took it ('Ethernet', 'Wi-Fi', …)
  stop_reason      TEXT CHECK (stop_reason IN ('asked', 'heavy-loss')),
  failure          TEXT,
  failure_code     TEXT,                        -- of tarnfell/wire/failures.py
  server_reachable INTEGER,
  result           TEXT                         -- JSON; of calls it is in run, call and video_stream
) STRICT;

INSERT INTO job (id, site_id, probe_id, kind, state, asked_by, created_us, taken_us, begun_us, ended_us, medium,
    stop_reason, failure, failure_code, server_reachable)
  SELECT id, site_id, probe_id, 'calls', state, asked_by, created_us,
    (SELECT max(at_us) FROM run_event WHERE run_id = run.id AND run_event.state = 'taken'), begun_us, ended_us,
    medium, stop_reason, failure, failure_code, server_reachable
  FROM run;
-- Runs keep their numbers. The others get new ones above all that a probe may still have in mind.
INSERT INTO job (id, site_id, probe_id, kind, arguments, state, asked_by, created_us, taken_us, begun_us, ended_us,
    failure, result)
  SELECT command.id + max((SELECT coalesce(max(id), 0) FROM run), (SELECT max(id) FROM command)), probe.site_id,
    probe_id, kind, arguments, CASE state WHEN 'taken' THEN 'failed' ELSE state END, asked_by, command.created_us,
    taken_us, taken_us, CASE state WHEN 'taken' THEN taken_us ELSE ended_us END,
    CASE state WHEN 'taken' THEN 'The server was updated before the probe told how it ended. Try again.'
      ELSE failure END, result
  FROM command JOIN probe ON probe.id = command.probe_id;
DROP TABLE command;
CREATE INDEX job_by_probe ON job(probe_id, created_us);
CREATE INDEX job_by_site ON job(site_id, created_us);
CREATE INDEX job_open ON job(probe_id, state) WHERE state IN ('waiting', 'taken', 'running');
CREATE INDEX job_begun ON job(probe_id, begun_us) WHERE kind = 'calls';

-- Every change of a job's state, in order: its visible life.
CREATE TABLE job_event (
  id     INTEGER PRIMARY KEY,
  job_id INTEGER NOT NULL REFERENCES job(id),
  at_us  INTEGER NOT NULL,
  state  TEXT NOT NULL,
  words  TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO job_event (id, job_id, at_us, state, words) SELECT id, run_id, at_us, state, words FROM run_event;
INSERT INTO job_event (job_id, at_us, state, words)
  SELECT id, created_us, 'waiting', '' FROM job WHERE kind <> 'calls';
INSERT INTO job_event (job_id, at_us, state, words)
  SELECT id, taken_us, 'taken', '' FROM job WHERE kind <> 'calls' AND taken_us IS NOT NULL;
INSERT INTO job_event (job_id, at_us, state, words)
  SELECT id, ended_us, state, coalesce(failure, '') FROM job WHERE kind <> 'calls' AND ended_us IS NOT NULL;
DROP TABLE run_event;
CREATE INDEX job_event_by_job ON job_event(job_id);

-- What the probe said each second while a job was on.
CREATE TABLE job_second (
  job_id INTEGER NOT NULL REFERENCES job(id),
  second INTEGER NOT NULL,
  body   TEXT NOT NULL,
  PRIMARY KEY (job_id, second)
) STRICT, WITHOUT ROWID;
INSERT INTO job_second (job_id, second, body) SELECT run_id, second, body FROM run_second;
DROP TABLE run_second;

-- A run is a job of the kind calls: what was to be placed, and what came of it.
CREATE TABLE run_of_job (
  id             INTEGER PRIMARY KEY REFERENCES job(id),
  far_end_id     INTEGER NOT NULL REFERENCES far_end(id),
  purpose        TEXT NOT NULL CHECK (purpose IN ('placed', 'watch')),
  codec          TEXT NOT NULL,
  ptime_ms       INTEGER NOT NULL,
  calls          INTEGER NOT NULL CHECK (calls BETWEEN 1 AND 100),
  seconds        REAL NOT NULL,
  dscp           INTEGER NOT NULL CHECK (dscp BETWEEN 0 AND 63),
  direction      TEXT NOT NULL DEFAULT 'both' CHECK (direction IN ('both', 'up', 'down')),
  video          TEXT NOT NULL DEFAULT '[]',
  series_id      INTEGER REFERENCES series(id),
  round          INTEGER,
  name           TEXT NOT NULL DEFAULT '',
  note           TEXT NOT NULL DEFAULT '',
  self_check     TEXT,
  clock_record   BLOB,
  clock_estimate TEXT,
  clock_relation TEXT,
  record_sha256  TEXT,
  tainted        INTEGER NOT NULL DEFAULT 0,
  stale          INTEGER NOT NULL DEFAULT 0,
  judged_us      INTEGER,
  cut_reason     TEXT,
  cut_after_s    REAL
) STRICT;
INSERT INTO run_of_job (id, far_end_id, purpose, codec, ptime_ms, calls, seconds, dscp, direction, video, series_id,
    round, name, note, self_check, clock_record, clock_estimate, clock_relation, record_sha256, tainted, stale,
    judged_us, cut_reason, cut_after_s)
  SELECT id, far_end_id, purpose, codec, ptime_ms, calls, seconds, dscp, direction, video, series_id, round, name, note,
    self_check, clock_record, clock_estimate, clock_relation, record_sha256, tainted, stale, judged_us, cut_reason,
    cut_after_s
  FROM run;
DROP TABLE run;
ALTER TABLE run_of_job RENAME TO run;
CREATE INDEX run_by_series ON run(series_id) WHERE series_id IS NOT NULL;
CREATE INDEX run_stale ON run(id) WHERE stale = 1;

-- A run with the life of its job.
CREATE VIEW run_job AS
  SELECT run.*, job.site_id, job.probe_id, job.state, job.asked_by, job.created_us, job.taken_us, job.begun_us,
    job.ended_us, job.medium, job.stop_reason, job.failure, job.failure_code, job.server_reachable
  FROM run JOIN job ON job.id = run.id;
