-- What a check of a site asks beside what the probe finds out for itself; JSON of tarnfell/store/checks.py: Wish.
CREATE TABLE check_wish (
  site_id INTEGER PRIMARY KEY REFERENCES site(id),
  wish    TEXT NOT NULL
) STRICT;
CREATE INDEX job_by_kind ON job(site_id, kind, id);
