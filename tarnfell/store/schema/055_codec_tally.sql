-- How many runs a codec's values judge, and how many of them wait to be judged again, is shown beside the values; counted
-- each time it would grow with all runs. Kept by the database itself, as run_tally is. A run's codec never changes.
CREATE TABLE codec_tally (
  site_id INTEGER NOT NULL REFERENCES site(id),
  codec   TEXT NOT NULL,
  done    INTEGER NOT NULL,  -- runs
  stale   INTEGER NOT NULL,  -- of them
  PRIMARY KEY (site_id, codec)
) STRICT;

INSERT INTO codec_tally (site_id, codec, done, stale)
SELECT site_id, codec, count(*), sum(stale) FROM run_job WHERE state = 'done' GROUP BY site_id, codec;

CREATE TRIGGER codec_tally_of_new AFTER INSERT ON run
BEGIN
  INSERT INTO codec_tally (site_id, codec, done, stale)
  SELECT site_id, NEW.codec, 1, NEW.stale FROM job WHERE id = NEW.id AND state = 'done'
  ON CONFLICT (site_id, codec) DO UPDATE SET done = done + 1, stale = stale + excluded.stale;
END;

CREATE TRIGGER codec_tally_of_state AFTER UPDATE OF state ON job WHEN (OLD.state = 'done') <> (NEW.state = 'done')
BEGIN
  INSERT INTO codec_tally (site_id, codec, done, stale)
  SELECT NEW.site_id, codec, more, more * stale
  FROM (SELECT codec, stale, (NEW.state = 'done') - (OLD.state = 'done') AS more FROM run WHERE id = NEW.id) WHERE true
  ON CONFLICT (site_id, codec) DO UPDATE SET done = done + excluded.done, stale = stale + excluded.stale;
END;

CREATE TRIGGER codec_tally_of_stale AFTER UPDATE OF stale ON run WHEN OLD.stale <> NEW.stale
BEGIN
  UPDATE codec_tally SET stale = stale + NEW.stale - OLD.stale
  WHERE codec = NEW.codec AND site_id = (SELECT site_id FROM job WHERE id = NEW.id AND state = 'done');
END;
