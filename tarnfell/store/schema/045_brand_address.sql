-- Of the consultant's own name for this server, which links for people outside begin with; empty for the server's own.
ALTER TABLE brand ADD COLUMN address TEXT NOT NULL DEFAULT '';
