-- Nothing that is looked at again and again grows with what has been: each of these looks at the
-- rows that are open, or at the latest of a report, whatever else is on record.

-- Runs that a notice may be due for.
create index runs_to_tell on runs ((coalesce(finished_at, created_at))) where state in ({told_states});
-- Scheduled runs that are under way, and those that nobody has looked at yet.
create index runs_under_way on runs (scheduled_for) where state in ({under_way_states});
create index runs_unapproved on runs (approval_deadline) where state = 'awaiting-approval';
-- The runs of a report that went well, and those that sent something.
create index runs_good on runs (report, finished_at) where state in ('delivered', 'quiet');
create index runs_sent on runs (report, created_at) where state in ('delivered', 'partly-delivered');
create index runs_quiet on runs (report, created_at) where state = 'quiet';
-- The runs of a report in a state, of which there may be none among very many.
create index runs_report_state on runs (report, state, created_at desc);
create index runs_instants on runs (report, scheduled_for desc, created_at desc);
create index on deliveries (created_at) where state = 'waiting';
create index on delivery_attempts (id) where outcome = 'unknown';
create index on notices (created_at) where run_id is not null;

-- What a snapshot's values are, for people: nobody opens it to find out.
alter table snapshots add column shown jsonb;

-- How many runs and deliveries there are in each state, as a list of changes that is added up
-- and folded now and then: a change waits for no other.
create table run_counts (report text not null, state text not null, count bigint not null);
create table delivery_counts (state text not null, count bigint not null);
insert into run_counts select report, state, count(*) from runs group by report, state;
insert into delivery_counts select state, count(*) from deliveries group by state;

create function count_added_runs() returns trigger language plpgsql as $$ begin
    insert into run_counts select report, state, count(*) from added group by report, state;
    return null;
end $$;
create function count_changed_runs() returns trigger language plpgsql as $$ begin
    insert into run_counts select report, state, sum(n) from (
        select report, state, 1 as n from added union all select report, state, -1 from removed) changed
    group by report, state having sum(n) <> 0;
    return null;
end $$;
create function count_removed_runs() returns trigger language plpgsql as $$ begin
    insert into run_counts select report, state, -count(*) from removed group by report, state;
    return null;
end $$;
create trigger count_added after insert on runs referencing new table as added
    for each statement execute function count_added_runs();
create trigger count_changed after update on runs referencing new table as added old table as removed
    for each statement execute function count_changed_runs();
create trigger count_removed after delete on runs referencing old table as removed
    for each statement execute function count_removed_runs();

create function count_added_deliveries() returns trigger language plpgsql as $$ begin
    insert into delivery_counts select state, count(*) from added group by state;
    return null;
end $$;
create function count_changed_deliveries() returns trigger language plpgsql as $$ begin
    insert into delivery_counts select state, sum(n) from (
        select state, 1 as n from added union all select state, -1 from removed) changed
    group by state having sum(n) <> 0;
    return null;
end $$;
create function count_removed_deliveries() returns trigger language plpgsql as $$ begin
    insert into delivery_counts select state, -count(*) from removed group by state;
    return null;
end $$;
create trigger count_added after insert on deliveries referencing new table as added
    for each statement execute function count_added_deliveries();
create trigger count_changed after update on deliveries referencing new table as added old table as removed
    for each statement execute function count_changed_deliveries();
create trigger count_removed after delete on deliveries referencing old table as removed
    for each statement execute function count_removed_deliveries();
