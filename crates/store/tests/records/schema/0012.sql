insert into known_places (name, address, last_at) values ('runa', '127.0.0.1', '2026-01-05 08:00+00');
