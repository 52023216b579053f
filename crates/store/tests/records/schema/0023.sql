insert into audit_entries (at, actor, address, action, subject, detail, outcome) values
    ('2026-01-09 08:00+00', 'runa', '127.0.0.1', 'team.add', 'bridge', null, 'done'),
    ('2026-01-09 08:01+00', null, '127.0.0.1', 'sign-in', 'tord', 'wrong password', 'refused');
