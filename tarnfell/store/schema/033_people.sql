-- Who belongs to an engagement, and as what. Whoever could sign in before saw every engagement there was.
CREATE TABLE member (
  engagement_id INTEGER NOT NULL REFERENCES engagement(id),
  user_id       INTEGER NOT NULL REFERENCES user(id),
  role          TEXT NOT NULL CHECK (role IN ('consultant', 'colleague', 'customer')),
  since_us      INTEGER NOT NULL,
  PRIMARY KEY (engagement_id, user_id)
) STRICT, WITHOUT ROWID;
INSERT INTO member SELECT e.id, u.id, 'consultant', CAST(strftime('%s', 'now') AS INTEGER) * 1000000
  FROM engagement e, user u WHERE u.removed_us IS NULL;
CREATE INDEX member_by_user ON member(user_id);

-- 1: came as a customer, and sees nothing but what engagements show to customers.
ALTER TABLE user ADD COLUMN outside INTEGER NOT NULL DEFAULT 0;
-- 1: customers see how their sites stand now, and not only what was issued.
ALTER TABLE engagement ADD COLUMN live INTEGER NOT NULL DEFAULT 0;

-- Where somebody is signed in; a row that is gone is a session that is over.
CREATE TABLE session (
  id       INTEGER PRIMARY KEY,
  user_id  INTEGER NOT NULL REFERENCES user(id),
  key_hash TEXT NOT NULL UNIQUE,
  began_us INTEGER NOT NULL,
  seen_us  INTEGER NOT NULL,
  peer     TEXT NOT NULL,
  browser  TEXT NOT NULL
) STRICT;
CREATE INDEX session_by_user ON session(user_id);

-- Codes in links that were given to people, each good once: into an engagement, or for a new password.
CREATE TABLE welcome (
  id            INTEGER PRIMARY KEY,
  code_hash     TEXT NOT NULL UNIQUE,
  email         TEXT NOT NULL COLLATE NOCASE,
  engagement_id INTEGER REFERENCES engagement(id),  -- NULL: for a new password of the user with that address
  role          TEXT,
  made_us       INTEGER NOT NULL,
  made_by       INTEGER REFERENCES user(id),
  expires_us    INTEGER NOT NULL,
  used_us       INTEGER,
  revoked_us    INTEGER
) STRICT;
CREATE INDEX welcome_by_engagement ON welcome(engagement_id);

-- Who did what, once it was done.
CREATE TABLE deed (
  id            INTEGER PRIMARY KEY,
  at_us         INTEGER NOT NULL,
  user_id       INTEGER REFERENCES user(id),
  engagement_id INTEGER REFERENCES engagement(id),
  site_id       INTEGER REFERENCES site(id),
  says          TEXT NOT NULL,
  address       TEXT NOT NULL
) STRICT;
CREATE INDEX deed_by_engagement ON deed(engagement_id, id);

-- Mail to one person; its words are let go of once it was sent, for they may hold a link that opens something.
CREATE TABLE letter (
  id       INTEGER PRIMARY KEY,
  about    TEXT NOT NULL,              -- welcome 12, link 7
  address  TEXT NOT NULL,
  subject  TEXT NOT NULL,
  words    TEXT NOT NULL,
  state    TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'sent', 'failed')),
  tries    INTEGER NOT NULL DEFAULT 0,
  next_us  INTEGER NOT NULL,
  made_us  INTEGER NOT NULL,
  ended_us INTEGER,
  failure  TEXT
) STRICT;
CREATE INDEX letter_by_about ON letter(about);
CREATE INDEX letter_waiting ON letter(next_us) WHERE state = 'waiting';
