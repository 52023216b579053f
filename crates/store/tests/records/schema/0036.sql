insert into passkeys (id, user_id, title, credential, passkey, created_at) values
    ('01890000-0000-7000-8000-000000000801', '01890000-0000-7000-8000-000000000001', 'Key of the bridge', 'cred-1', '{}', '2026-01-10 08:00+00');
insert into passkey_challenges (id, user_id, state, expires_at) values
    ('01890000-0000-7000-8000-000000000802', '01890000-0000-7000-8000-000000000001', '{}', '2026-01-10 08:05+00');
