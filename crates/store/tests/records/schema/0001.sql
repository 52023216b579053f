-- A place as the first schema had it: people, definitions, a run that went out, one that failed, one that waits.
insert into users (id, name, password_hash, role, created_at) values
    ('01890000-0000-7000-8000-000000000001', 'runa', '$argon2id$v=19$m=19456,t=2,p=1$c2FsdHNhbHQ$x', 'administrator', '2026-01-05 08:00+00'),
    ('01890000-0000-7000-8000-000000000002', 'tord', '$argon2id$v=19$m=19456,t=2,p=1$c2FsdHNhbHQ$y', 'viewer', '2026-01-05 08:00+00');
insert into sessions (token_hash, user_id, created_at, expires_at) values
    ('a1', '01890000-0000-7000-8000-000000000001', '2026-01-05 08:00+00', '2099-01-01 00:00+00');
insert into api_tokens (id, user_id, name, token_hash, created_at, last_used_at) values
    ('01890000-0000-7000-8000-000000000011', '01890000-0000-7000-8000-000000000001', 'pipeline', 'b1', '2026-01-05 08:00+00', null);
insert into sign_in_failures (subject, failures, last_at) values ('tord', 2, '2026-01-05 09:00+00');
insert into definitions (kind, name, title, file, text, updated_at, updated_by) values
    ('report', 'ferry-daily', 'Ferry daily', 'ferry-daily.toml', E'[report]\nname = "ferry-daily"\ntitle = "Ferry daily"\n', '2026-01-05 08:00+00', 'runa');
insert into schedule_states (report, rule, paused, next_instant, runs_made) values
    ('ferry-daily', 'every day at 06:00', true, '2026-01-07 06:00+00', 2);
insert into runs (id, report, title, scheduled_for, cause, requested_by, deliver, state, definitions, window_from, window_to, time_zone, problem, created_at, started_at, finished_at) values
    ('01890000-0000-7000-8000-000000000101', 'ferry-daily', 'Ferry daily', '2026-01-05 06:00+00', 'schedule', null, true, 'delivered', '[]', '2026-01-04 00:00+00', '2026-01-05 00:00+00', 'Atlantic/Faroe', null, '2026-01-05 06:00+00', '2026-01-05 06:00+00', '2026-01-05 06:01+00'),
    ('01890000-0000-7000-8000-000000000102', 'ferry-daily', 'Ferry daily', '2026-01-06 06:00+00', 'schedule', null, true, 'failed', '[]', '2026-01-05 00:00+00', '2026-01-06 00:00+00', 'Atlantic/Faroe', 'the source did not answer', '2026-01-06 06:00+00', '2026-01-06 06:00+00', '2026-01-06 06:01+00'),
    ('01890000-0000-7000-8000-000000000103', 'ferry-daily', 'Ferry daily', '2026-01-06 07:00+00', 'request', 'runa', false, 'completed', '[]', '2026-01-05 00:00+00', '2026-01-06 00:00+00', 'Atlantic/Faroe', null, '2026-01-06 07:00+00', '2026-01-06 07:00+00', '2026-01-06 07:01+00');
insert into run_steps (run_id, kind, subject, state, detail, started_at, ended_at) values
    ('01890000-0000-7000-8000-000000000101', 'collect', 'ferry-daily / crossings', 'done', '12 rows', '2026-01-05 06:00+00', '2026-01-05 06:00+00'),
    ('01890000-0000-7000-8000-000000000102', 'collect', 'ferry-daily / crossings', 'failed', 'the source did not answer', '2026-01-06 06:00+00', '2026-01-06 06:01+00');
insert into snapshots (id, run_id, values_key, sha256, body, created_at) values
    ('01890000-0000-7000-8000-000000000201', '01890000-0000-7000-8000-000000000101', 'k', 'c1', '\x01', '2026-01-05 06:00+00');
insert into documents (id, run_id, snapshot_id, format, file_name, media_type, sha256, size, body, created_at) values
    ('01890000-0000-7000-8000-000000000301', '01890000-0000-7000-8000-000000000101', '01890000-0000-7000-8000-000000000201', 'csv', 'ferry-daily.csv', 'text/csv', 'ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad', 3, 'abc', '2026-01-05 06:00+00');
insert into deliveries (id, run_id, snapshot_id, audience, channel, recipient, state, message_id, next_attempt_at, problem, created_at, settled_at) values
    ('01890000-0000-7000-8000-000000000401', '01890000-0000-7000-8000-000000000101', '01890000-0000-7000-8000-000000000201', 'bridge', 'mail', 'Bridge <bridge@orrin-sound.example>', 'accepted', '<1@orrin-sound.example>', '2026-01-05 06:00+00', null, '2026-01-05 06:00+00', '2026-01-05 06:01+00'),
    ('01890000-0000-7000-8000-000000000402', '01890000-0000-7000-8000-000000000101', '01890000-0000-7000-8000-000000000201', 'office', 'mail', 'office@orrin-sound.example', 'refused', '<2@orrin-sound.example>', '2026-01-05 06:00+00', '550 no such user', '2026-01-05 06:00+00', '2026-01-05 06:01+00');
insert into delivery_attempts (delivery_id, started_at, ended_at, outcome, answer) values
    ('01890000-0000-7000-8000-000000000401', '2026-01-05 06:00+00', '2026-01-05 06:01+00', 'accepted', '250 OK'),
    ('01890000-0000-7000-8000-000000000402', '2026-01-05 06:00+00', '2026-01-05 06:01+00', 'refused', '550 no such user');
