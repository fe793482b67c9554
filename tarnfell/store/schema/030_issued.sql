-- What the consultant writes into a site's next report: empty where the report says it by itself.
CREATE TABLE report_draft (
  site_id    INTEGER PRIMARY KEY REFERENCES site(id),
  summary    TEXT NOT NULL,
  note       TEXT NOT NULL,
  changed_us INTEGER NOT NULL,
  changed_by INTEGER REFERENCES user(id)
) STRICT;

-- Reports that were issued. Their files lie on the shelf "issued" by what is in them and are never changed.
CREATE TABLE issued (
  id           INTEGER PRIMARY KEY,
  site_id      INTEGER NOT NULL REFERENCES site(id),
  number       TEXT NOT NULL UNIQUE,
  issued_us    INTEGER NOT NULL,
  issued_by    INTEGER REFERENCES user(id),
  version      TEXT NOT NULL,          -- of this program
  word         TEXT NOT NULL,
  low          INTEGER NOT NULL,
  high         INTEGER NOT NULL,
  page_sha256  TEXT NOT NULL,
  data_sha256  TEXT NOT NULL,          -- printed on the page
  pdf_sha256   TEXT,                   -- null until the clerk has made it
  replaced_by  INTEGER REFERENCES issued(id),
  withdrawn_us INTEGER,
  withdrawn_by INTEGER REFERENCES user(id),
  withdrawn    TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX issued_by_site ON issued(site_id, id);

-- Links by which an issued report is read without signing in. Of the passphrase only a hash is kept.
CREATE TABLE report_link (
  id         INTEGER PRIMARY KEY,
  issued_id  INTEGER NOT NULL REFERENCES issued(id),
  code       TEXT NOT NULL UNIQUE,
  name       TEXT NOT NULL,            -- whom it is for
  passphrase TEXT,
  made_us    INTEGER NOT NULL,
  made_by    INTEGER REFERENCES user(id),
  until_us   INTEGER NOT NULL,
  revoked_us INTEGER
) STRICT;
CREATE TABLE report_opened (
  link_id INTEGER NOT NULL REFERENCES report_link(id),
  at_us   INTEGER NOT NULL,
  peer    TEXT NOT NULL
) STRICT;
CREATE INDEX report_opened_by_link ON report_opened(link_id, at_us);
