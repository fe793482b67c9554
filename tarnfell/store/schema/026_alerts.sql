-- What people want to be told of; a rule that is changed is ended, and another made. tarnfell/core/alerts/rules.py.
CREATE TABLE alert_rule (
  id            INTEGER PRIMARY KEY,
  engagement_id INTEGER NOT NULL REFERENCES engagement(id),
  site_id       INTEGER REFERENCES site(id),   -- NULL: all sites of the engagement
  kind          TEXT NOT NULL,
  role          TEXT,
  bound         REAL NOT NULL,
  minutes       INTEGER NOT NULL,
  least         INTEGER NOT NULL,
  of_tests      INTEGER NOT NULL,
  mail          INTEGER NOT NULL,
  webhook       INTEGER NOT NULL,
  collect       INTEGER NOT NULL,              -- have the probe check its network at that moment
  quiet_from    INTEGER,                       -- minutes since midnight at the site, between which nothing is sent
  quiet_until   INTEGER,
  made_by       INTEGER REFERENCES user(id),
  made_us       INTEGER NOT NULL,
  ended_us      INTEGER
) STRICT;
CREATE INDEX alert_rule_of ON alert_rule (engagement_id);

-- A rule that was kept: one row from when it began to its all-clear.
CREATE TABLE alert (
  id         INTEGER PRIMARY KEY,
  rule_id    INTEGER NOT NULL REFERENCES alert_rule(id),
  site_id    INTEGER NOT NULL REFERENCES site(id),
  subject    TEXT NOT NULL,                    -- what of the site: a place of a watch, a probe, a planned load
  began_us   INTEGER NOT NULL,
  ended_us   INTEGER,
  says       TEXT NOT NULL,
  made_us    INTEGER NOT NULL,
  UNIQUE (rule_id, subject, began_us)
) STRICT;
CREATE INDEX alert_of_site ON alert (site_id, began_us);
CREATE INDEX alert_of_rule ON alert (rule_id, site_id);
CREATE INDEX alert_open ON alert (rule_id) WHERE ended_us IS NULL;

-- Whom an engagement's alerts are sent to.
CREATE TABLE alert_target (
  engagement_id  INTEGER PRIMARY KEY REFERENCES engagement(id),
  addresses      TEXT NOT NULL,                -- JSON list
  webhook_url    TEXT NOT NULL,
  webhook_secret TEXT NOT NULL
) STRICT;

CREATE TABLE mail_server (
  id        INTEGER PRIMARY KEY CHECK (id = 1),
  host      TEXT NOT NULL,
  port      INTEGER NOT NULL,
  security  TEXT NOT NULL CHECK (security IN ('none', 'starttls', 'tls')),
  user_name TEXT NOT NULL,
  password  TEXT NOT NULL,
  sender    TEXT NOT NULL
) STRICT;

-- What is to be sent, until it has been or is given up. tarnfell/store/outbox.py.
CREATE TABLE message (
  id            INTEGER PRIMARY KEY,
  engagement_id INTEGER NOT NULL REFERENCES engagement(id),
  alert_id      INTEGER REFERENCES alert(id),  -- NULL: a trial of the target
  what          TEXT NOT NULL CHECK (what IN ('begun', 'ended', 'trial')),
  channel       TEXT NOT NULL CHECK (channel IN ('mail', 'webhook')),
  state         TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'sent', 'failed')),
  tries         INTEGER NOT NULL DEFAULT 0,
  next_us       INTEGER NOT NULL,
  made_us       INTEGER NOT NULL,
  ended_us      INTEGER,
  failure       TEXT,
  UNIQUE (alert_id, what, channel)
) STRICT;
CREATE INDEX message_waiting ON message (next_us) WHERE state = 'waiting';

-- A program that reads an engagement's figures says this.
CREATE TABLE metrics_token (
  engagement_id INTEGER PRIMARY KEY REFERENCES engagement(id),
  hash          TEXT NOT NULL,
  made_us       INTEGER NOT NULL
) STRICT;

-- When this server was up, and when a probe was not heard of although it was.
CREATE TABLE server_up (
  began_us INTEGER PRIMARY KEY,
  seen_us  INTEGER NOT NULL
) STRICT;
CREATE TABLE absence (
  probe_id INTEGER NOT NULL REFERENCES probe(id),
  from_us  INTEGER NOT NULL,
  until_us INTEGER NOT NULL,
  PRIMARY KEY (probe_id, from_us)
) STRICT, WITHOUT ROWID;

-- Where the oldest cell begins that has changed since alerts looked at a watch; NULL for none.
ALTER TABLE watch ADD COLUMN alert_from_us INTEGER;

-- Hour by hour, the worst that calls would have had on the way that a watch samples: JSON list of pairs, Unix
-- microseconds and MOS. What was read before is read again to have it.
ALTER TABLE watch_reading ADD COLUMN week TEXT NOT NULL DEFAULT '[]';
UPDATE watch_reading SET changed = -1;

-- When somebody last had the start page before, after a pause, and when they have it now.
ALTER TABLE user ADD COLUMN seen_us INTEGER;
ALTER TABLE user ADD COLUMN seen_before_us INTEGER;
