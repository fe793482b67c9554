-- A browser's test to which no media came through was told as one that found no far end; the far end had answered.
UPDATE job SET failure_code = 'no-media'
  WHERE failure_code = 'unreachable' AND failure LIKE 'No media came through: within 15 s no UDP packet %';
