insert into orders (user_id, key, digest, answer, created_at) values
    ('01890000-0000-7000-8000-000000000001', 'k1', 'd1', '{"run": "01890000-0000-7000-8000-000000000103"}', '2026-01-06 07:00+00');
