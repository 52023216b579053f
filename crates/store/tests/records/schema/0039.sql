insert into telemetry_sent (finished_at, run_id) values ('2026-01-06 07:01+00', '01890000-0000-7000-8000-000000000103');
