-- In whose name an engagement's reports are made.
CREATE TABLE brand (
    engagement_id INTEGER PRIMARY KEY REFERENCES engagement (id) ON DELETE CASCADE,
    name TEXT NOT NULL DEFAULT '',
    contact TEXT NOT NULL DEFAULT '',
    colour TEXT NOT NULL DEFAULT '',   -- as #1a2b3c; empty: the reports' own
    logo TEXT NOT NULL DEFAULT ''      -- a data: address, checked; empty: none
) STRICT;
