-- What a consultant writes down about a site, where its probes stand, and who answers calls.

ALTER TABLE engagement ADD COLUMN archived_us INTEGER;

ALTER TABLE site ADD COLUMN archived_us INTEGER;
ALTER TABLE site ADD COLUMN address TEXT NOT NULL DEFAULT '';
-- JSON: hours in which no load may be placed, [{"days","from_minute","to_minute","why"}], local.
ALTER TABLE site ADD COLUMN blackouts TEXT NOT NULL DEFAULT '[]';
-- Most of the line's rate, each way, that test calls may take. NULL: no ceiling was set.
ALTER TABLE site ADD COLUMN ceiling_pct REAL;
-- JSON: people by role, [{"role","name","email","phone"}].
ALTER TABLE site ADD COLUMN contacts TEXT NOT NULL DEFAULT '[]';
ALTER TABLE site ADD COLUMN switches_by TEXT NOT NULL DEFAULT '';
ALTER TABLE site ADD COLUMN firewall_by TEXT NOT NULL DEFAULT '';
ALTER TABLE site ADD COLUMN line_by TEXT NOT NULL DEFAULT '';
-- Calling habits from which needed_calls was computed; NULL where the number was stated.
ALTER TABLE site ADD COLUMN calls_per_hour REAL;
ALTER TABLE site ADD COLUMN minutes_per_call REAL;
ALTER TABLE site ADD COLUMN blocking_pct REAL;
-- JSON: [{"profile","streams"}].
ALTER TABLE site ADD COLUMN video TEXT NOT NULL DEFAULT '[]';
ALTER TABLE site ADD COLUMN srtp INTEGER NOT NULL DEFAULT 0;
ALTER TABLE site ADD COLUMN pppoe INTEGER NOT NULL DEFAULT 0;
ALTER TABLE site ADD COLUMN vlan_tags INTEGER NOT NULL DEFAULT 0;
ALTER TABLE site ADD COLUMN tunnel_bytes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE site ADD COLUMN ipv6 INTEGER NOT NULL DEFAULT 0;
ALTER TABLE site ADD COLUMN max_delay_ms REAL;
ALTER TABLE site ADD COLUMN max_loss_pct REAL;
ALTER TABLE site ADD COLUMN max_variation_ms REAL;
CREATE INDEX site_by_engagement ON site(engagement_id);

-- Targets under a name of the consultant's own, for all sites of an engagement. ``targets`` is JSON.
CREATE TABLE preset (
  id            INTEGER PRIMARY KEY,
  engagement_id INTEGER NOT NULL REFERENCES engagement(id),
  title         TEXT NOT NULL COLLATE NOCASE,
  targets       TEXT NOT NULL,
  created_us    INTEGER NOT NULL,
  UNIQUE (engagement_id, title)
) STRICT;

-- A place on the site's path where a probe can stand; ``position`` counts from the farthest inwards.
CREATE TABLE spot (
  id         INTEGER PRIMARY KEY,
  site_id    INTEGER NOT NULL REFERENCES site(id),
  name       TEXT NOT NULL,
  kind       TEXT NOT NULL CHECK (kind IN ('farthest', 'desk', 'wireless', 'cabinet', 'firewall', 'outside')),
  note       TEXT NOT NULL DEFAULT '',
  created_us INTEGER NOT NULL
) STRICT;
CREATE INDEX spot_by_site ON spot(site_id);

-- Far ends serve any site that chooses them. A probe that answers is one as well.
CREATE TABLE far_end_of_all (
  id          INTEGER PRIMARY KEY,
  kind        TEXT NOT NULL CHECK (kind IN ('host', 'server', 'probe')),
  name        TEXT NOT NULL,
  place       TEXT NOT NULL DEFAULT '',
  host        TEXT NOT NULL,
  port        INTEGER NOT NULL,
  media_low   INTEGER,
  media_high  INTEGER,
  key         TEXT NOT NULL,
  probe_id    INTEGER REFERENCES probe(id),
  archived_us INTEGER,
  created_us  INTEGER NOT NULL
) STRICT;
CREATE UNIQUE INDEX far_end_of_probe ON far_end_of_all(probe_id) WHERE probe_id IS NOT NULL;
INSERT INTO far_end_of_all (id, kind, name, place, host, port, key, created_us)
  SELECT id, 'host', name, place, host, port, key, created_us FROM far_end;

CREATE TABLE site_far_end (
  site_id    INTEGER NOT NULL REFERENCES site(id),
  far_end_id INTEGER NOT NULL REFERENCES far_end_of_all(id),
  created_us INTEGER NOT NULL,
  PRIMARY KEY (site_id, far_end_id)
) STRICT, WITHOUT ROWID;
INSERT INTO site_far_end (site_id, far_end_id, created_us) SELECT site_id, id, created_us FROM far_end;

DROP TABLE far_end;
ALTER TABLE far_end_of_all RENAME TO far_end;

-- Each probe gets a spot of its own from the words it had.
INSERT INTO spot (site_id, name, kind, created_us)
  SELECT site_id, CASE spot WHEN '' THEN 'first spot' ELSE spot END, 'desk', min(created_us)
  FROM probe GROUP BY site_id, spot;
-- ``secret_hash`` is NULL until the probe has enrolled; ``heard_from`` is the address it was last heard from.
CREATE TABLE probe_in_spot (
  id            INTEGER PRIMARY KEY,
  site_id       INTEGER NOT NULL REFERENCES site(id),
  spot_id       INTEGER NOT NULL REFERENCES spot(id),
  name          TEXT NOT NULL,
  secret_hash   TEXT UNIQUE,
  environment   TEXT NOT NULL DEFAULT '{}',
  heard_from    TEXT,
  enrolled_us   INTEGER,
  last_heard_us INTEGER,
  retired_us    INTEGER,
  created_us    INTEGER NOT NULL
) STRICT;
INSERT INTO probe_in_spot (id, site_id, spot_id, name, secret_hash, environment, enrolled_us, last_heard_us, created_us)
  SELECT id, site_id,
    (SELECT spot.id FROM spot WHERE spot.site_id = probe.site_id
      AND spot.name = CASE probe.spot WHEN '' THEN 'first spot' ELSE probe.spot END),
    name, secret_hash, environment, CASE WHEN secret_hash IS NOT NULL THEN coalesce(last_heard_us, created_us) END,
    last_heard_us, created_us
  FROM probe;
DROP TABLE probe;
ALTER TABLE probe_in_spot RENAME TO probe;
CREATE INDEX probe_by_site ON probe(site_id);

-- A link by which somebody at the site gets a probe running. Each code enrols one machine, once.
CREATE TABLE invitation (
  id         INTEGER PRIMARY KEY,
  probe_id   INTEGER NOT NULL REFERENCES probe(id),
  code       TEXT NOT NULL UNIQUE,
  invited_by INTEGER REFERENCES user(id),
  created_us INTEGER NOT NULL,
  until_us   INTEGER NOT NULL,
  opened_us  INTEGER,
  fetched_us INTEGER,
  used_us    INTEGER,
  revoked_us INTEGER
) STRICT;
CREATE INDEX invitation_by_probe ON invitation(probe_id);
-- Tokens given out before were kept as hashes and cannot be carried over; new links replace them.

-- What a probe was told to do apart from placing calls, with the same visible life as a run.
CREATE TABLE command (
  id         INTEGER PRIMARY KEY,
  probe_id   INTEGER NOT NULL REFERENCES probe(id),
  kind       TEXT NOT NULL CHECK (kind IN ('distances', 'update', 'answer', 'silence', 'end')),
  arguments  TEXT NOT NULL DEFAULT '{}',
  state      TEXT NOT NULL CHECK (state IN ('waiting', 'taken', 'done', 'failed')),
  asked_by   INTEGER REFERENCES user(id),
  created_us INTEGER NOT NULL,
  taken_us   INTEGER,
  ended_us   INTEGER,
  failure    TEXT,
  result     TEXT
) STRICT;
CREATE INDEX command_by_probe ON command(probe_id, state);

-- How far a far end is from a probe, as last measured: least time to open a connection.
CREATE TABLE distance (
  probe_id    INTEGER NOT NULL REFERENCES probe(id),
  far_end_id  INTEGER NOT NULL REFERENCES far_end(id),
  at_us       INTEGER NOT NULL,
  connect_ms  REAL,
  failure     TEXT,
  PRIMARY KEY (probe_id, far_end_id)
) STRICT, WITHOUT ROWID;
