-- A relay (TURN) for tests from browsers where UDP does not pass, of all sites of an engagement.
CREATE TABLE relay (
  engagement_id INTEGER PRIMARY KEY REFERENCES engagement(id) ON DELETE CASCADE,
  host          TEXT NOT NULL,
  port          INTEGER NOT NULL CHECK (port BETWEEN 1 AND 65535),      -- by UDP and by TCP
  tls_port      INTEGER CHECK (tls_port BETWEEN 1 AND 65535),           -- NULL where it takes no TLS
  user          TEXT NOT NULL,                                          -- empty: the secret is shared, names are made
  secret        TEXT NOT NULL
) STRICT;

ALTER TABLE browser_reach ADD COLUMN relayed INTEGER NOT NULL DEFAULT 0;
