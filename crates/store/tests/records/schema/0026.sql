insert into recovery_codes (user_id, code_hash) values ('01890000-0000-7000-8000-000000000001', 'r1');
