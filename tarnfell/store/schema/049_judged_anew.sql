-- What marking does on a full line, and where an outage begins and ends, are told by better rules: once more, from what
-- is kept.
UPDATE fill SET stale = 1 WHERE filled IS NOT NULL;
UPDATE watch SET changes = changes + 1;
