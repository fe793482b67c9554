-- People who may sign in.
CREATE TABLE user (
  id            INTEGER PRIMARY KEY,
  email         TEXT NOT NULL UNIQUE COLLATE NOCASE,
  name          TEXT NOT NULL,
  password_hash TEXT NOT NULL,
  created_us    INTEGER NOT NULL
) STRICT;

CREATE TABLE engagement (
  id         INTEGER PRIMARY KEY,
  slug       TEXT NOT NULL UNIQUE,
  name       TEXT NOT NULL,
  summary    TEXT NOT NULL DEFAULT '',
  created_us INTEGER NOT NULL
) STRICT;

-- A customer's site and what it must carry. Rates in kbit/s; hours are local minutes of the day.
CREATE TABLE site (
  id                  INTEGER PRIMARY KEY,
  engagement_id       INTEGER NOT NULL REFERENCES engagement(id),
  slug                TEXT NOT NULL UNIQUE,
  name                TEXT NOT NULL,
  place               TEXT NOT NULL DEFAULT '',
  time_zone           TEXT NOT NULL,
  open_minute         INTEGER NOT NULL DEFAULT 480 CHECK (open_minute BETWEEN 0 AND 1440),
  close_minute        INTEGER NOT NULL DEFAULT 1080 CHECK (close_minute BETWEEN 0 AND 1440),
  open_days           TEXT NOT NULL DEFAULT '12345',
  medium              TEXT NOT NULL DEFAULT '',
  down_kbps           INTEGER,
  up_kbps             INTEGER,
  provider            TEXT NOT NULL DEFAULT '',
  people              INTEGER,
  needed_calls        INTEGER NOT NULL CHECK (needed_calls >= 1),
  codec               TEXT NOT NULL,
  ptime_ms            INTEGER NOT NULL,
  target_mos          REAL NOT NULL DEFAULT 4.0,
  required_share_pct  REAL NOT NULL DEFAULT 97.0,
  required_days       INTEGER NOT NULL DEFAULT 7,
  required_busy_hours INTEGER NOT NULL DEFAULT 40,
  required_calls      INTEGER NOT NULL DEFAULT 125,
  created_us          INTEGER NOT NULL
) STRICT;

-- Where calls are answered. ``key`` is the shared secret of that far end.
CREATE TABLE far_end (
  id         INTEGER PRIMARY KEY,
  site_id    INTEGER NOT NULL REFERENCES site(id),
  name       TEXT NOT NULL,
  place      TEXT NOT NULL DEFAULT '',
  host       TEXT NOT NULL,
  port       INTEGER NOT NULL,
  key        TEXT NOT NULL,
  created_us INTEGER NOT NULL
) STRICT;

CREATE TABLE probe (
  id            INTEGER PRIMARY KEY,
  site_id       INTEGER NOT NULL REFERENCES site(id),
  name          TEXT NOT NULL,
  spot          TEXT NOT NULL DEFAULT '',
  secret_hash   TEXT UNIQUE,
  token_hash    TEXT UNIQUE,
  token_until_us INTEGER,
  environment   TEXT NOT NULL DEFAULT '{}',
  last_heard_us INTEGER,
  created_us    INTEGER NOT NULL
) STRICT;

-- One run: some calls held at once between one probe and one far end.
CREATE TABLE run (
  id             INTEGER PRIMARY KEY,
  site_id        INTEGER NOT NULL REFERENCES site(id),
  probe_id       INTEGER NOT NULL REFERENCES probe(id),
  far_end_id     INTEGER NOT NULL REFERENCES far_end(id),
  purpose        TEXT NOT NULL CHECK (purpose IN ('placed', 'watch')),
  state          TEXT NOT NULL CHECK (state IN ('waiting', 'taken', 'running', 'done', 'failed')),
  codec          TEXT NOT NULL,
  ptime_ms       INTEGER NOT NULL,
  calls          INTEGER NOT NULL CHECK (calls BETWEEN 1 AND 100),
  seconds        REAL NOT NULL,
  dscp           INTEGER NOT NULL CHECK (dscp BETWEEN 0 AND 63),
  asked_by       INTEGER REFERENCES user(id),
  created_us     INTEGER NOT NULL,
  begun_us       INTEGER,
  ended_us       INTEGER,
  stop_asked     INTEGER NOT NULL DEFAULT 0,
  failure        TEXT,
  self_check     TEXT,
  clock_record   BLOB,
  record_sha256  TEXT,
  tainted        INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX run_by_site ON run(site_id, created_us);
CREATE INDEX run_by_probe ON run(probe_id, state);

-- Every change of a run's state, in order: the job's visible life.
CREATE TABLE run_event (
  id     INTEGER PRIMARY KEY,
  run_id INTEGER NOT NULL REFERENCES run(id),
  at_us  INTEGER NOT NULL,
  state  TEXT NOT NULL,
  words  TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX run_event_by_run ON run_event(run_id);

-- What the probe said each second while a run was on.
CREATE TABLE run_second (
  run_id INTEGER NOT NULL REFERENCES run(id),
  second INTEGER NOT NULL,
  body   TEXT NOT NULL,
  PRIMARY KEY (run_id, second)
) STRICT, WITHOUT ROWID;

-- One call: the raw packet record of both directions, as uploaded.
CREATE TABLE call (
  id         INTEGER PRIMARY KEY,
  run_id     INTEGER NOT NULL REFERENCES run(id),
  number     INTEGER NOT NULL,
  started_us INTEGER NOT NULL,
  record     BLOB NOT NULL,
  UNIQUE (run_id, number)
) STRICT;

-- One direction of one call, judged when it came in. NULL where a value does not exist.
CREATE TABLE direction (
  call_id              INTEGER NOT NULL REFERENCES call(id),
  direction            TEXT NOT NULL CHECK (direction IN ('up', 'down')),
  sent                 INTEGER NOT NULL,
  received             INTEGER NOT NULL,
  lost                 INTEGER NOT NULL,
  loss_pct             REAL NOT NULL,
  late                 INTEGER NOT NULL,
  duplicates           INTEGER NOT NULL,
  reordered            INTEGER NOT NULL,
  jitter_ms            REAL NOT NULL,
  jitter_max_ms        REAL NOT NULL,
  burst_ratio          REAL NOT NULL,
  longest_loss_run     INTEGER NOT NULL,
  delay_min_ms         REAL,
  delay_p50_ms         REAL,
  pdv_p50_ms           REAL,
  pdv_p95_ms           REAL,
  pdv_p99_ms           REAL,
  pdv_max_ms           REAL,
  effective_loss_pct   REAL NOT NULL,
  mouth_to_ear_ms      REAL,
  r_factor             REAL,
  mos                  REAL,
  worst_second_mos     REAL,
  ssrc                 INTEGER NOT NULL,
  dscp_sent            INTEGER NOT NULL,
  dscp_kept_pct        REAL,
  dscp_received        TEXT NOT NULL,
  reason               TEXT,
  PRIMARY KEY (call_id, direction)
) STRICT, WITHOUT ROWID;
