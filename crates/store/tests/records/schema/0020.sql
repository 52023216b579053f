update users set email = name || '@orrin-sound.example';
insert into invitations (token_hash, user_id, created_at, expires_at) values
    ('i1', '01890000-0000-7000-8000-000000000002', '2026-01-05 08:00+00', '2026-01-12 08:00+00');
