-- What somebody noted of a stretch of a site's time, of one leg or call in it where it says so.
CREATE TABLE note (
  id         INTEGER PRIMARY KEY,
  site_id    INTEGER NOT NULL REFERENCES site(id),
  from_us    INTEGER NOT NULL,
  until_us   INTEGER NOT NULL,
  leg        TEXT NOT NULL,           -- empty: of none in particular
  call_id    INTEGER REFERENCES call(id),
  words      TEXT NOT NULL,
  in_report  INTEGER NOT NULL,
  made_us    INTEGER NOT NULL,
  made_by    INTEGER REFERENCES user(id),
  removed_us INTEGER
) STRICT;
CREATE INDEX note_by_site ON note(site_id, from_us);
