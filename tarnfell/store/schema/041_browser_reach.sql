-- How a browser came to the far end of a test.
CREATE TABLE browser_reach (
  job_id     INTEGER PRIMARY KEY REFERENCES job(id) ON DELETE CASCADE,
  web_source TEXT,                       -- the address that the web server saw it at
  told       TEXT NOT NULL DEFAULT '{}'  -- by the page and by the far end, as JSON
) STRICT;
