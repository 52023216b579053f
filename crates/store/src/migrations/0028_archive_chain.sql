-- Which documents were made, day by day, as they were when the day was over. Each day carries the
-- digest of the day before it and that of the audit trail at its end, so that a document or an entry
-- that is altered, missing or put in is found. Days are in UTC.
create table archive_days (
    day date primary key,
    documents bigint not null,
    audit_id bigint not null,
    audit_sha256 text not null,
    previous text not null,
    sha256 text not null,
    sealed_at timestamptz not null
);
create table archive_documents (
    document_id uuid primary key,
    day date not null references archive_days deferrable initially deferred,
    run_id uuid not null,
    file_name text not null,
    sha256 text not null,
    size bigint not null
);
create index archive_documents_day on archive_documents (day);
create index documents_created_at on documents (created_at);

-- SHA-256 over the digest of the day before and a JSON array of what the day has.
create function archive_digest(one archive_days) returns text language sql stable as $$
    select encode(sha256(convert_to(one.previous || json_build_array(
        one.day, one.documents, one.audit_id, one.audit_sha256,
        (select coalesce(json_agg(json_build_array(document_id, run_id, file_name, sha256, size) order by document_id), '[]')
         from archive_documents where day = one.day))::text, 'UTF8')), 'hex')
$$;
create function seal_archive_day() returns trigger language plpgsql as $$ begin
    new.documents := (select count(*) from archive_documents where day = new.day);
    new.previous := coalesce((select sha256 from archive_days order by day desc limit 1), '');
    new.sha256 := archive_digest(new);
    return new;
end $$;
create trigger seal_day before insert on archive_days for each row execute function seal_archive_day();
create function keep_archive_days() returns trigger language plpgsql as $$ begin
    raise exception 'the days of the archive are not changed or removed';
end $$;
create trigger keep_days before update or delete or truncate on archive_days execute function keep_archive_days();
create trigger keep_documents before update or delete or truncate on archive_documents execute function keep_archive_days();
