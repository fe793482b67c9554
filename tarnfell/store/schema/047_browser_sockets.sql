-- Tests from browsers that no UDP passes: over a WebSocket to this server. The way that a test's packets took; only the
-- straight one is what calls of the site would take.
ALTER TABLE browser_reach ADD COLUMN way TEXT NOT NULL DEFAULT 'straight' CHECK (way IN ('straight', 'relay', 'socket'));
UPDATE browser_reach SET way = 'relay' WHERE relayed;
ALTER TABLE browser_reach DROP COLUMN relayed;

-- What is asked of a test over a WebSocket (JSON), and when the page opened it: once.
ALTER TABLE browser_half ADD COLUMN asked TEXT;
ALTER TABLE browser_half ADD COLUMN opened_us INTEGER;
