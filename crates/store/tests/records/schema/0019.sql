insert into pictures (id, run_id, sha256, body) values
    ('01890000-0000-7000-8000-000000000601', '01890000-0000-7000-8000-000000000101', 'e1', '\x89504e47');
insert into snapshot_pictures (snapshot_id, picture_id) values
    ('01890000-0000-7000-8000-000000000201', '01890000-0000-7000-8000-000000000601');
