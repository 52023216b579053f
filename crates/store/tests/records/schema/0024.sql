update snapshots set searchable = true;
insert into document_texts (snapshot_id, text) values ('01890000-0000-7000-8000-000000000201', 'Ferry daily: archive-01 disk 92.6 % used');
