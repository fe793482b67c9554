-- What a decision puts in place of the evidence's own words, and where in the order the cause stands.
ALTER TABLE cause_decision ADD COLUMN weight TEXT NOT NULL DEFAULT '' CHECK (weight IN ('first', '', 'last'));
ALTER TABLE cause_decision ADD COLUMN title  TEXT NOT NULL DEFAULT '';
ALTER TABLE cause_decision ADD COLUMN remedy TEXT NOT NULL DEFAULT '';
ALTER TABLE cause_decision ADD COLUMN who    TEXT NOT NULL DEFAULT '';
