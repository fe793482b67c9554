-- What people asked of a site's evidence: judged as it would have been under a change, by the clerk.
CREATE TABLE what_if (
    id INTEGER PRIMARY KEY AUTOINCREMENT,  -- a number that was removed while it was tried is nobody else’s
    site_id INTEGER NOT NULL REFERENCES site (id) ON DELETE CASCADE,
    change TEXT NOT NULL,        -- JSON: only what is not as it is
    asked_by INTEGER REFERENCES user (id) ON DELETE SET NULL,
    asked_us INTEGER NOT NULL,
    state TEXT NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'being tried', 'ready', 'failed')),
    tries INTEGER NOT NULL DEFAULT 0,
    mark TEXT,                   -- of the evidence and the brief that it was tried on
    result TEXT,                 -- JSON
    ended_us INTEGER
) STRICT;
CREATE INDEX what_if_of_site ON what_if (site_id, id);
CREATE INDEX what_if_open ON what_if (id) WHERE state IN ('waiting', 'being tried');
