-- Who did what. Entries are added and never changed: each carries the digest of the one before it, so
-- that one that is altered, missing or put in is found. The digest is SHA-256 over the digest before
-- it and the entry as a JSON array, as audit_digest() has it.
create table audit_entries (
    id bigint primary key,
    at timestamptz not null,
    -- Who; nothing for somebody who did not sign in.
    actor text,
    address text,
    action text not null,
    subject text not null,
    detail text,
    outcome text not null check (outcome in ({audit_outcomes})),
    previous text not null,
    sha256 text not null
);
create index audit_entries_at on audit_entries (at);
create index audit_entries_actor on audit_entries (actor, id desc);
create index audit_entries_action on audit_entries (action, id desc);

create function audit_digest(entry audit_entries) returns text language sql stable as $$
    select encode(sha256(convert_to(entry.previous || json_build_array(
        entry.id, to_char(entry.at at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'), entry.actor, entry.address,
        entry.action, entry.subject, entry.detail, entry.outcome)::text, 'UTF8')), 'hex')
$$;
create function add_audit_entry() returns trigger language plpgsql as $$ begin
    -- One after the other, so that each knows the one before it.
    perform pg_advisory_xact_lock(7302420);
    select coalesce(max(id), 0) + 1 into new.id from audit_entries;
    new.previous := coalesce((select sha256 from audit_entries where id = new.id - 1), '');
    new.sha256 := audit_digest(new);
    return new;
end $$;
create function keep_audit_entries() returns trigger language plpgsql as $$ begin
    raise exception 'entries of the audit trail are not changed or removed';
end $$;
create trigger add_entry before insert on audit_entries for each row execute function add_audit_entry();
create trigger keep_entries before update or delete or truncate on audit_entries execute function keep_audit_entries();
