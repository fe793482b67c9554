-- Runs and commands as they were kept before both became jobs (schema 11).
INSERT INTO user (id, email, name, password_hash, created_us
  ) VALUES (1, 'a@b.example', 'Ada', '', 1);
INSERT INTO engagement (id, slug, name, created_us
  ) VALUES (1, 'e', 'E', 5);
INSERT INTO site (id, engagement_id, slug, name, time_zone, needed_calls, codec, ptime_ms, created_us
  ) VALUES (1, 1, 'pier', 'Pier', 'UTC', 2, 'g711a', 20, 5);
INSERT INTO test_point (id, site_id, name, kind, created_us
  ) VALUES (1, 1, 'desk', 'desk', 5);
INSERT INTO probe (id, site_id, test_point_id, name, created_us
  ) VALUES (1, 1, 1, 'p', 5);
INSERT INTO far_end (id, kind, name, host, port, key, created_us
  ) VALUES (1, 'host', 'f', '192.0.2.1', 1, 'k', 5);
INSERT INTO plan (id, site_id, name, probe_id, far_end_id, codec, ptime_ms, dscp, shape, form, state, made_by, created_us
  ) VALUES (1, 1, 'up', 1, 1, 'g711a', 20, 46, '{"steps": [1], "call_s": 60, "rounds": 1}', '{"shape": "rise"}', 'draft', 1, 5);
INSERT INTO run (id, site_id, probe_id, far_end_id, purpose, state, codec, ptime_ms, calls, seconds, dscp, asked_by, created_us, begun_us, ended_us, failure, failure_code, server_reachable, stop_reason, medium, name, note, tainted, record_sha256, judged_us, cut_reason, cut_after_s
  ) VALUES (3, 1, 1, 1, 'placed', 'done', 'g711a', 20, 2, 5.5, 46, 1, 10, 12, 19, NULL, NULL, NULL, 'asked', 'Wi-Fi', 'noon', 'a note', 1, 'sha', 20, 'cut off', 2.5),
    (9, 1, 1, 1, 'watch', 'failed', 'g711a', 20, 2, 5, 46, NULL, 30, NULL, 33, 'why', 'silent', 1, NULL, NULL, '', '', 0, NULL, NULL, NULL, NULL);
INSERT INTO run_event (run_id, at_us, state, words
  ) VALUES (3, 10, 'waiting', 'asked'),
    (3, 11, 'taken', 't'),
    (3, 12, 'running', 'r'),
    (3, 19, 'done', 'd'),
    (9, 30, 'waiting', 'w'),
    (9, 33, 'failed', 'why');
INSERT INTO run_second (run_id, second, body
  ) VALUES (3, 1, '{"second": 1}');
INSERT INTO call (id, run_id, number, started_us, record
  ) VALUES (1, 3, 1, 12, x'00');
INSERT INTO delivery (id, run_id, sha256, received_us
  ) VALUES (1, 9, 'x', 34);
INSERT INTO command (id, probe_id, kind, arguments, state, asked_by, created_us, taken_us, ended_us, failure, result
  ) VALUES (1, 1, 'distances', '{"far_ends": []}', 'done', 1, 40, 41, 42, NULL, '{"distances": []}'),
    (2, 1, 'update', '{}', 'taken', 1, 50, 51, NULL, NULL, NULL),
    (4, 1, 'end', '{}', 'waiting', 1, 60, NULL, NULL, NULL, NULL);
