-- One word for loads that go up step by step.
UPDATE plan SET form = json_set(form, '$.shape', 'ramp') WHERE json_extract(form, '$.shape') = 'rise';
