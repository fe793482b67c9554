-- Causes that people know of and the evidence cannot: they stand beside its own, and take no part in the verdict.
CREATE TABLE own_cause (
    id INTEGER PRIMARY KEY AUTOINCREMENT,
    site_id INTEGER NOT NULL REFERENCES site (id) ON DELETE CASCADE,
    title TEXT NOT NULL,
    says TEXT NOT NULL DEFAULT '',    -- how it is known
    remedy TEXT NOT NULL DEFAULT '',
    who TEXT NOT NULL DEFAULT '',     -- acts
    made_us INTEGER NOT NULL,
    made_by INTEGER REFERENCES user (id) ON DELETE SET NULL
) STRICT;
CREATE INDEX own_cause_of_site ON own_cause (site_id, id);
