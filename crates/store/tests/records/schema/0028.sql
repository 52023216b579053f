begin;
insert into archive_documents (document_id, day, run_id, file_name, sha256, size)
    select id, '2026-01-05', run_id, file_name, sha256, size from documents;
insert into archive_days (day, audit_id, audit_sha256, sealed_at)
    select '2026-01-05', id, sha256, '2026-01-10 00:10+00' from audit_entries order by id desc limit 1;
commit;
