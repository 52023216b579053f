insert into keep_policy (policy, set_at, set_by) values ('{}', '2026-01-09 08:00+00', 'runa');
insert into holdings (run_id, report, ended_at, document_bytes, snapshot_bytes, kept_at, kept_by, kept_because) values
    ('01890000-0000-7000-8000-000000000101', 'ferry-daily', '2026-01-05 06:01+00', 3, 1, '2026-01-09 08:00+00', 'runa', 'asked for by the insurer');
insert into removals (at, what, why, run_id, report, title, ended_at, window_from, window_to, bytes, files) values
    ('2026-01-09 08:00+00', 'documents', 'older than allowed', '01890000-0000-7000-8000-000000000100', 'ferry-daily', 'Ferry daily', '2025-01-05 06:01+00', '2025-01-04 00:00+00', '2025-01-05 00:00+00', 3, '[]');
