-- How long what was made is kept. What a report says of itself goes before it; nothing goes where
-- neither says anything. There is one row at most.
create table keep_policy (
    only_one boolean primary key default true check (only_one),
    policy jsonb not null,
    set_at timestamptz not null,
    set_by text not null
);

-- What there is of each run that is over, in bytes, and what of it is still there. Somebody can keep a
-- run for good: nothing of it goes then.
create table holdings (
    run_id uuid primary key references runs on delete cascade,
    report text not null,
    -- When the run was over; nothing as long as nobody has looked.
    ended_at timestamptz,
    stage text not null default 'documents' check (stage in ({keep_stages})),
    document_bytes bigint not null default 0,
    snapshot_bytes bigint not null default 0,
    kept_at timestamptz,
    kept_by text,
    kept_because text
);
create index holdings_next on holdings (stage, ended_at, run_id) where kept_at is null;
create index holdings_report on holdings (report, stage, ended_at desc, run_id desc) where kept_at is null;
create index holdings_kept on holdings (kept_at desc, run_id) where kept_at is not null;

alter table runs add column measured boolean not null default false;
create index runs_to_measure on runs (created_at) where not measured;
alter table documents add column removed_at timestamptz;
alter table snapshots add column removed_at timestamptz;

-- What went, also when nothing else is left of the run.
create table removals (
    id bigint generated always as identity primary key,
    at timestamptz not null,
    what text not null check (what in ({keep_stages})),
    why text not null,
    run_id uuid not null,
    report text not null,
    title text not null,
    ended_at timestamptz not null,
    window_from timestamptz not null,
    window_to timestamptz not null,
    bytes bigint not null,
    -- The names and digests of the documents that went.
    files jsonb not null
);
create index removals_report on removals (report, id desc);
create index removals_run on removals (run_id);
create index removals_files on removals using gin (files jsonb_path_ops);

-- Whatever goes with a run or a snapshot is found without reading a whole table.
create index if not exists notices_run on notices (run_id);
create index if not exists shared_links_snapshot on shared_links (snapshot_id);
