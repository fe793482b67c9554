-- Of the samples of ten minutes, those that were sent while load of our own was on the line: they tell of the load, so that
-- time counts as watched by the others alone. Of cells packed before it is not known, and taken as none.
ALTER TABLE sample_cell ADD COLUMN beside INTEGER NOT NULL DEFAULT 0;

DROP INDEX sample_cell_sent;
CREATE INDEX sample_cell_sent
  ON sample_cell(watch_id, start_us, first_us, last_us, answered, lost, not_sent, without_us, beside);
