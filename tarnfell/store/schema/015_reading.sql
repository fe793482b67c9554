-- A large imported file is read by the clerk. reading: nothing has been read in it yet; failure: why nothing can be.
ALTER TABLE imported ADD COLUMN reading INTEGER NOT NULL DEFAULT 0;
ALTER TABLE imported ADD COLUMN failure TEXT;
ALTER TABLE imported ADD COLUMN tries INTEGER NOT NULL DEFAULT 0;
