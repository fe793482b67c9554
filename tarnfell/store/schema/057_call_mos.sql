-- What the calls of a site came to, in the order of time: the minute bench shows a quarter of them at once, and each was
-- looked up among the records of its run. A direction that was not sent in is NULL; of one in which nothing was heard the
-- MOS is 1, NOTHING_HEARD of tarnfell/store/calls.py.
CREATE TABLE call_mos (
  site_id    INTEGER NOT NULL REFERENCES site(id),
  started_us INTEGER NOT NULL,
  call_id    INTEGER NOT NULL REFERENCES call(id) ON DELETE CASCADE,
  run_id     INTEGER NOT NULL REFERENCES run(id),
  ends_us    INTEGER NOT NULL,
  up         REAL,
  down       REAL,
  PRIMARY KEY (site_id, started_us, call_id)
) STRICT, WITHOUT ROWID;

INSERT INTO call_mos (site_id, started_us, call_id, run_id, ends_us, up, down)
SELECT job.site_id, c.started_us, c.id, r.id, CAST(c.started_us + r.seconds * 1000000 AS INTEGER),
  max(iif(d.direction = 'up', coalesce(d.mos, 1.0), NULL)), max(iif(d.direction = 'down', coalesce(d.mos, 1.0), NULL))
FROM job JOIN run r ON r.id = job.id JOIN call c ON c.run_id = r.id JOIN direction d ON d.call_id = c.id
GROUP BY c.id;

CREATE TRIGGER call_mos_of_new AFTER INSERT ON direction
BEGIN
  INSERT INTO call_mos (site_id, started_us, call_id, run_id, ends_us, up, down)
  SELECT job.site_id, c.started_us, c.id, r.id, CAST(c.started_us + r.seconds * 1000000 AS INTEGER),
    iif(NEW.direction = 'up', coalesce(NEW.mos, 1.0), NULL), iif(NEW.direction = 'down', coalesce(NEW.mos, 1.0), NULL)
  FROM call c JOIN run r ON r.id = c.run_id JOIN job ON job.id = r.id WHERE c.id = NEW.call_id
  ON CONFLICT DO UPDATE SET up = coalesce(excluded.up, up), down = coalesce(excluded.down, down);
END;

CREATE TRIGGER call_mos_of_changed AFTER UPDATE OF mos ON direction
BEGIN
  UPDATE call_mos SET up = iif(NEW.direction = 'up', coalesce(NEW.mos, 1.0), up),
    down = iif(NEW.direction = 'down', coalesce(NEW.mos, 1.0), down)
  WHERE call_id = NEW.call_id
    AND (site_id, started_us) = (
      SELECT job.site_id, c.started_us FROM call c JOIN job ON job.id = c.run_id WHERE c.id = NEW.call_id
    );
END;

-- Of runs that are not to be trusted.
CREATE INDEX run_tainted ON run(id) WHERE tainted = 1;
