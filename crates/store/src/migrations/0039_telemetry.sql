-- Up to which run its trace has been handed on.
create table telemetry_sent (
    only_one boolean primary key default true check (only_one),
    finished_at timestamptz not null,
    run_id uuid not null
);
create index runs_finished on runs (finished_at, id) where finished_at is not null;
