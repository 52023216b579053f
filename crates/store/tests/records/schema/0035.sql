insert into outside_bodies (sha256, size, not_before) values
    ('ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad', 3, '2026-01-10 00:00+00');
update documents set outside = sha256, body = '';
