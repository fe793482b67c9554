-- What came of a load of packets all alike: as the probe told it (JSON of tarnfell/wire/kinds/flow.py: FlowResult), and
-- what the clerk saw in it (JSON of tarnfell/core/flow.py: FlowSeen). ``asked`` is JSON of tarnfell/store/flows.py:
-- FlowAsked. Stale: it is to be judged, or judged again.
CREATE TABLE flow (
  job_id    INTEGER PRIMARY KEY REFERENCES job(id),
  site_id   INTEGER NOT NULL REFERENCES site(id),
  asked     TEXT NOT NULL,
  told      TEXT NOT NULL,
  seen      TEXT,
  failure   TEXT,
  judged_us INTEGER,
  stale     INTEGER NOT NULL DEFAULT 1
) STRICT;
CREATE INDEX flow_of_site ON flow(site_id, job_id);
CREATE INDEX flow_stale ON flow(stale) WHERE stale = 1;
