-- Records of runs that have arrived and wait to be judged. The file is deliveries/<sha256> beside the database.
CREATE TABLE delivery (
  id          INTEGER PRIMARY KEY,
  run_id      INTEGER NOT NULL REFERENCES run(id),
  sha256      TEXT NOT NULL,
  received_us INTEGER NOT NULL,
  tries       INTEGER NOT NULL DEFAULT 0,
  not_before_us INTEGER NOT NULL DEFAULT 0,
  refused     TEXT,                         -- why it was not taken; NULL while it waits
  UNIQUE (run_id, sha256)
) STRICT;
