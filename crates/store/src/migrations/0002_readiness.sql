-- Runs that wait for their data, that may go side by side, and that were not complete.
alter table runs
    add column may_overlap boolean not null default false,
    -- When a run that waits asks next whether its data is ready, and how often it has asked.
    add column next_check_at timestamptz,
    add column checks integer not null default 0,
    -- Why its data may be incomplete.
    add column incomplete text,
    -- Which hours and weekdays inside the window count, if not all do.
    add column within jsonb;
drop index runs_open;
create index runs_open on runs (created_at) where state in ({work_states});
create index runs_scheduled on runs (scheduled_for);
