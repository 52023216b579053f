-- What was there instead of a live page that could not be captured, for its authors.
create table failed_pages (
    id bigint generated always as identity primary key,
    run_id uuid not null references runs (id) on delete cascade,
    subject text not null,
    picture bytea not null,
    created_at timestamptz not null
);
create index failed_pages_of_run on failed_pages (run_id);
