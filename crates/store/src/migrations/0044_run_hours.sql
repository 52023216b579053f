-- The runs of each hour, so that a month need not be counted run by run: a list of changes as run_counts is, with the
-- earliest and the latest instant that each change speaks of. What is settled has been added up, and its instants are
-- those of runs that are there; what is not yet has instants that are at least as early, and as late.
create table run_hours (
    hour timestamptz not null,
    report text not null,
    state text not null,
    team text not null,
    count bigint not null,
    first timestamptz not null,
    last timestamptz not null,
    settled boolean not null default false
);
-- Nothing changes between what is counted and what is noted from then on.
lock table runs in share row exclusive mode;
insert into run_hours
    select date_trunc('hour', scheduled_for, 'UTC'), report, state, team, count(*), min(scheduled_for), max(scheduled_for), true
    from runs group by 1, 2, 3, 4;
create index run_hours_hour on run_hours (hour) include (report, state, team, count, first, last, settled);
create index run_hours_unsettled on run_hours (hour, report, state, team) where not settled;

create or replace function count_added_runs() returns trigger language plpgsql as $$ begin
    insert into run_counts (report, state, team, count) select report, state, team, count(*) from added group by report, state, team;
    insert into run_hours
        select date_trunc('hour', scheduled_for, 'UTC'), report, state, team, count(*), min(scheduled_for), max(scheduled_for)
        from added group by 1, 2, 3, 4;
    return null;
end $$;
create or replace function count_removed_runs() returns trigger language plpgsql as $$ begin
    insert into run_counts (report, state, team, count) select report, state, team, -count(*) from removed group by report, state, team;
    insert into run_hours
        select date_trunc('hour', scheduled_for, 'UTC'), report, state, team, -count(*), min(scheduled_for), max(scheduled_for)
        from removed group by 1, 2, 3, 4;
    return null;
end $$;
create or replace function count_changed_runs() returns trigger language plpgsql as $$ begin
    insert into run_counts (report, state, team, count)
        values (old.report, old.state, old.team, -1), (new.report, new.state, new.team, 1);
    insert into run_hours values
        (date_trunc('hour', old.scheduled_for, 'UTC'), old.report, old.state, old.team, -1, old.scheduled_for, old.scheduled_for),
        (date_trunc('hour', new.scheduled_for, 'UTC'), new.report, new.state, new.team, 1, new.scheduled_for, new.scheduled_for);
    return null;
end $$;
-- In place of the one before: to drop that would wait for whoever reads the runs, who may wait for the lock above.
create or replace trigger count_changed after update of report, state, team, scheduled_for on runs for each row
    when ((old.report, old.state, old.team, old.scheduled_for) is distinct from (new.report, new.state, new.team, new.scheduled_for))
    execute function count_changed_runs();
