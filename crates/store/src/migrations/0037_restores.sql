-- Which database this is: its server's cluster, the timeline of that, and its own number there. Any of them is
-- another once a copy was restored. On a server that hands over to a standby the timeline says nothing.
create table database_identity (
    one boolean primary key default true check (one),
    cluster text not null,
    timeline text not null,
    number text not null,
    fails_over boolean not null
);

-- When it was found that a copy had been restored.
create table restores (
    id bigint generated always as identity primary key,
    found_at timestamptz not null,
    runs bigint not null
);

-- Why a run may have been sent before, in a time that the records do not know any more.
alter table runs add column doubt text;
create index on runs (id) where doubt is not null;

create function current_identity(out cluster text, out timeline text, out number text) language sql stable as $$
    select (select system_identifier::text from pg_control_system()),
           left(pg_walfile_name(pg_current_wal_lsn()), 8),
           (select oid::text from pg_database where datname = current_database())
$$;

-- Whether work may be taken: nobody has put an earlier copy in place of what was here.
create function is_same_database() returns boolean language sql stable as $$
    select not exists (
        select from database_identity known, current_identity() now
        where known.cluster <> now.cluster or known.number <> now.number
           or not known.fails_over and known.timeline <> now.timeline
    )
$$;
