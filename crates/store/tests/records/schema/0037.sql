insert into database_identity (cluster, timeline, number, fails_over) select '1', '00000001', '5', false;
insert into restores (found_at, runs) values ('2026-01-11 08:00+00', 1);
