-- What the probe's link was when it took the run ('Ethernet', 'Wi-Fi', …); NULL where it was not told.
ALTER TABLE run ADD COLUMN medium TEXT;

-- An imported file that was judged by values of a codec that have changed since; it is read again in turn.
ALTER TABLE imported ADD COLUMN stale INTEGER NOT NULL DEFAULT 0;

-- One name for one thing, from screen to table.
ALTER TABLE spot RENAME TO test_point;
ALTER TABLE probe RENAME COLUMN spot_id TO test_point_id;
ALTER TABLE probe RENAME COLUMN last_heard_us TO last_contact_us;
ALTER TABLE probe RENAME COLUMN heard_from TO contact_address;
UPDATE imported SET choices = json_remove(
  json_set(choices, '$.test_point_id', json_extract(choices, '$.spot_id')), '$.spot_id'
) WHERE json_extract(choices, '$.spot_id') IS NOT NULL;
