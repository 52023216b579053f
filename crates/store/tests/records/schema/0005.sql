update snapshots set status = 'Critical', quiet = null;
insert into bounced_addresses (address, hard_bounces, words, last_at, suppressed_at) values
    ('office@orrin-sound.example', 3, '550 no such user', '2026-01-05 06:01+00', '2026-01-05 06:01+00');
insert into unsubscribes (report, address, unsubscribed_at) values ('ferry-daily', 'tord@orrin-sound.example', '2026-01-05 10:00+00');
insert into shared_links (id, run_id, snapshot_id, variant, recipient, expires_at, opened) values
    ('01890000-0000-7000-8000-000000000501', '01890000-0000-7000-8000-000000000101', '01890000-0000-7000-8000-000000000201', '', 'bridge@orrin-sound.example', '2026-02-05 00:00+00', 1);
-- The kind of a notice had its run's day behind it.
insert into notices (kind, subject, run_id, recipient, text, created_at, told_at) values
    ('failed 2026-01-06', 'ferry-daily', '01890000-0000-7000-8000-000000000102', 'runa@orrin-sound.example', 'it failed', '2026-01-06 06:01+00', '2026-01-06 06:02+00');
insert into source_failures (source, failures, since, words) values ('operations', 2, '2026-01-06 06:00+00', 'did not answer');
