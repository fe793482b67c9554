-- The calls that an issued report rests on, as CSV; reports of before have none.
ALTER TABLE issued ADD COLUMN calls_sha256 TEXT;
-- 1: evidence was short of what the brief asked; NULL of reports of before.
ALTER TABLE issued ADD COLUMN provisional INTEGER;
-- What an engagement's reports are printed on.
ALTER TABLE engagement ADD COLUMN paper TEXT NOT NULL DEFAULT 'A4' CHECK (paper IN ('A4', 'Letter'));
