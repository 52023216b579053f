insert into archive_told (day, telling_until, told_at) values ('2026-01-05', '2026-01-10 00:11+00', '2026-01-10 00:10+00');
