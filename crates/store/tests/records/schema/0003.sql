insert into sampler_states (sampler, next_at, last_at, detail) values ('gate-scans', '2026-01-05 06:05+00', '2026-01-05 06:00+00', '12 rows');
insert into samples (sampler, at, body) values ('gate-scans', '2026-01-05 06:00+00', '{"columns": [], "rows": []}');
insert into secrets (name, sealed, updated_at, updated_by) values ('reader', '\x0102', '2026-01-05 08:00+00', 'runa');
