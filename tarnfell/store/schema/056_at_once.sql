-- A codec whose values were changed, and what it judged has not been told yet: the clerk does that, of all its runs.
CREATE TABLE codec_change (
  engagement_id INTEGER NOT NULL REFERENCES engagement(id),
  codec         TEXT NOT NULL,
  PRIMARY KEY (engagement_id, codec)
) STRICT, WITHOUT ROWID;

-- The figures of ten minutes by themselves: a quarter has thirteen thousand, and each lay beside its samples.
CREATE INDEX sample_cell_tens ON sample_cell(watch_id, start_us, tens);
