insert into published_views (id, dashboard, title, team, look, signed_in, expires_at, made_by, made_at) values
    ('01890000-0000-7000-8000-000000000701', 'bridge', 'Bridge', 'bridge', '{}', false, '2026-02-01 00:00+00', 'runa', '2026-01-09 08:00+00');
