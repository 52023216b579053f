-- Asked whenever work is taken. A session keeps the plans of these functions; written in SQL, they were planned
-- anew for each statement.
create or replace function current_identity(out cluster text, out timeline text, out number text) language plpgsql stable as $$ begin
    select system_identifier::text into cluster from pg_control_system();
    timeline := left(pg_walfile_name(pg_current_wal_lsn()), 8);
    select oid::text into number from pg_database where datname = current_database();
end $$;

create or replace function is_same_database() returns boolean language plpgsql stable as $$ begin
    return not exists (
        select from database_identity known, current_identity() now
        where known.cluster <> now.cluster or known.number <> now.number
           or not known.fails_over and known.timeline <> now.timeline
    );
end $$;
