-- Services that every site of an engagement asks; JSON of tarnfell/store/checks.py: ServiceList.
CREATE TABLE service_list (
  engagement_id INTEGER PRIMARY KEY REFERENCES engagement(id),
  services      TEXT NOT NULL
) STRICT;
