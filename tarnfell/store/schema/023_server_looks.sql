-- Looks at addresses from the server itself: asked for (JSON of tarnfell/wire/kinds/look.py: LookArguments), and what has
-- come of it so far (LookResult).
CREATE TABLE server_look (
  id         INTEGER PRIMARY KEY,
  site_id    INTEGER NOT NULL REFERENCES site(id),
  asked      TEXT NOT NULL,
  created_us INTEGER NOT NULL,
  made_by    INTEGER REFERENCES user(id),
  state      TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'done', 'failed')),
  told       TEXT,
  failure    TEXT,
  stopped    INTEGER NOT NULL DEFAULT 0
) STRICT;
CREATE INDEX server_look_of_site ON server_look(site_id, id);
CREATE INDEX server_look_open ON server_look(state) WHERE state IN ('waiting', 'running');
