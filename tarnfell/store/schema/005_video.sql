-- Video streams beside calls, media in one direction only, and what a picture must reach.

-- ``video`` is JSON: [{"profile","streams","dscp"}]. ``direction`` says which ways media flows.
ALTER TABLE run ADD COLUMN direction TEXT NOT NULL DEFAULT 'both' CHECK (direction IN ('both', 'up', 'down'));
ALTER TABLE run ADD COLUMN video TEXT NOT NULL DEFAULT '[]';
ALTER TABLE plan ADD COLUMN direction TEXT NOT NULL DEFAULT 'both' CHECK (direction IN ('both', 'up', 'down'));
ALTER TABLE plan ADD COLUMN video TEXT NOT NULL DEFAULT '[]';

ALTER TABLE site ADD COLUMN target_picture REAL NOT NULL DEFAULT 3.5;

-- One video stream: the raw packet record of its directions, as uploaded.
CREATE TABLE video_stream (
  id         INTEGER PRIMARY KEY,
  run_id     INTEGER NOT NULL REFERENCES run(id),
  number     INTEGER NOT NULL,
  profile    TEXT NOT NULL,
  started_us INTEGER NOT NULL,
  record     BLOB NOT NULL,
  UNIQUE (run_id, number)
) STRICT;

-- One direction of a video stream, judged when it came in. NULL where a value does not exist.
CREATE TABLE picture (
  video_stream_id   INTEGER NOT NULL REFERENCES video_stream(id),
  direction         TEXT NOT NULL CHECK (direction IN ('up', 'down')),
  sent              INTEGER NOT NULL,
  received          INTEGER NOT NULL,
  lost              INTEGER NOT NULL,
  loss_pct          REAL NOT NULL,
  late              INTEGER NOT NULL,
  reordered         INTEGER NOT NULL,
  duplicates        INTEGER NOT NULL,
  delay_p50_ms      REAL,
  pdv_p95_ms        REAL,
  frames            INTEGER NOT NULL,
  whole             INTEGER NOT NULL,
  shown             INTEGER NOT NULL,
  freezes           INTEGER NOT NULL,
  frozen_ms         REAL NOT NULL,
  longest_freeze_ms REAL NOT NULL,
  mean_fps          REAL,
  worst_second_fps  INTEGER,
  score             REAL,
  ssrc              INTEGER NOT NULL,
  dscp_sent         INTEGER NOT NULL,
  dscp_received     TEXT NOT NULL,
  reason            TEXT,
  PRIMARY KEY (video_stream_id, direction)
) STRICT, WITHOUT ROWID;
