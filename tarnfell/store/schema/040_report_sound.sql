-- A call to be heard in the report: one direction of it, where the listener missed most.
ALTER TABLE report_draft ADD COLUMN sound_call INTEGER REFERENCES call(id) ON DELETE SET NULL;
ALTER TABLE report_draft ADD COLUMN sound_direction TEXT NOT NULL DEFAULT '' CHECK (sound_direction IN ('', 'up', 'down'));
