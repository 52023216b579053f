insert into teams (name, title, addresses, created_at) values ('bridge', 'Bridge', array['*@orrin-sound.example'], '2026-01-09 08:00+00');
insert into team_members (team, user_id, owner) values ('bridge', '01890000-0000-7000-8000-000000000002', true);
update runs set team = 'bridge' where state = 'failed';
