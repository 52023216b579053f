insert into run_lines (run_id, at, level, text) values ('01890000-0000-7000-8000-000000000102', '2026-01-06 06:01+00', 'warn', 'the source did not answer');
