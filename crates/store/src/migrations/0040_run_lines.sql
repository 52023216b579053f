-- What the log says of a run.
create table run_lines (
    id bigint generated always as identity primary key,
    run_id uuid not null references runs on delete cascade,
    at timestamptz not null,
    level text not null,
    text text not null
);
create index run_lines_of_run on run_lines (run_id, id);
