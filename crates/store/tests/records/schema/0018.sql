insert into failed_pages (run_id, subject, picture, created_at) values
    ('01890000-0000-7000-8000-000000000102', 'gates', '\x89504e47', '2026-01-06 06:01+00');
