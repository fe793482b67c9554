-- Language and country (BCP 47) in whose way dates and numbers are written for people outside.
ALTER TABLE brand ADD COLUMN locale TEXT NOT NULL DEFAULT 'en-GB';
