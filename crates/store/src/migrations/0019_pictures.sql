-- Pictures of live pages, once for each run, by the SHA-256 of their bytes; and which snapshots
-- show them.
create table pictures (
    id uuid primary key,
    run_id uuid not null references runs (id) on delete cascade,
    sha256 text not null,
    body bytea not null,
    unique (run_id, sha256)
);
alter table pictures alter column body set storage external;
create table snapshot_pictures (
    snapshot_id uuid not null references snapshots (id) on delete cascade,
    picture_id uuid not null references pictures (id) on delete cascade,
    primary key (snapshot_id, picture_id)
);
create index snapshots_of_picture on snapshot_pictures (picture_id);
