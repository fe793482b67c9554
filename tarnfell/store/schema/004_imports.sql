-- Evidence made elsewhere, as it was read: captures and echo logs. ``result`` is JSON; the file itself is not kept.
CREATE TABLE imported (
  id          INTEGER PRIMARY KEY,
  site_id     INTEGER NOT NULL REFERENCES site(id),
  name        TEXT NOT NULL,
  kind        TEXT NOT NULL CHECK (kind IN ('capture', 'echo log')),
  sha256      TEXT NOT NULL,
  result      TEXT NOT NULL,
  imported_by INTEGER REFERENCES user(id),
  created_us  INTEGER NOT NULL,
  UNIQUE (site_id, sha256)
) STRICT;
