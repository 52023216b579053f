create table users (
    id uuid primary key,
    name text not null unique,
    password_hash text not null,
    role text not null check (role in ({roles})),
    created_at timestamptz not null
);

create table sessions (
    token_hash text primary key,
    user_id uuid not null references users on delete cascade,
    created_at timestamptz not null,
    expires_at timestamptz not null
);

create table api_tokens (
    id uuid primary key,
    user_id uuid not null references users on delete cascade,
    name text not null,
    token_hash text not null unique,
    created_at timestamptz not null,
    last_used_at timestamptz
);

create table sign_in_failures (
    subject text primary key,
    failures integer not null,
    last_at timestamptz not null
);

create table definitions (
    kind text not null,
    name text not null,
    title text not null,
    file text not null,
    text text not null,
    updated_at timestamptz not null,
    updated_by text not null,
    primary key (kind, name)
);

-- One row for each report that has a schedule.
create table schedule_states (
    report text primary key,
    rule text not null,
    paused boolean not null default false,
    next_instant timestamptz,
    -- How many runs the schedule has made; it survives changes of the definition.
    runs_made integer not null default 0
);
create index on schedule_states (next_instant) where not paused;

create table runs (
    id uuid primary key,
    report text not null,
    title text not null,
    scheduled_for timestamptz not null,
    cause text not null check (cause in ({causes})),
    requested_by text,
    -- Whether its documents go out, or are only made.
    deliver boolean not null,
    state text not null check (state in ({run_states})),
    definitions jsonb not null,
    window_from timestamptz not null,
    window_to timestamptz not null,
    time_zone text not null,
    problem text,
    -- Instants that passed while no process ran and that this run stands for.
    skipped integer not null default 0,
    lease_owner uuid,
    lease_until timestamptz,
    created_at timestamptz not null,
    started_at timestamptz,
    finished_at timestamptz
);
-- One scheduled instant of a report runs once, whoever notices it.
create unique index runs_instant on runs (report, scheduled_for) where cause = 'schedule';
create index runs_open on runs (created_at) where state in ({work_states});
create index runs_report on runs (report, created_at desc);
create index runs_created on runs (created_at desc);

create table run_steps (
    id bigserial primary key,
    run_id uuid not null references runs on delete cascade,
    kind text not null check (kind in ({step_kinds})),
    subject text not null,
    state text not null check (state in ({step_states})),
    detail text,
    started_at timestamptz not null,
    ended_at timestamptz,
    unique (run_id, kind, subject)
);

create table snapshots (
    id uuid primary key,
    run_id uuid not null references runs on delete cascade,
    -- SHA-256 of the parameter values: one snapshot for each distinct set.
    values_key text not null,
    sha256 text not null,
    body bytea not null,
    created_at timestamptz not null,
    unique (run_id, values_key)
);

create table documents (
    id uuid primary key,
    run_id uuid not null references runs on delete cascade,
    snapshot_id uuid not null references snapshots on delete cascade,
    format text not null,
    file_name text not null,
    media_type text not null,
    sha256 text not null,
    size bigint not null,
    body bytea not null,
    created_at timestamptz not null,
    unique (snapshot_id, file_name)
);
create index on documents (run_id);

create table deliveries (
    id uuid primary key,
    run_id uuid not null references runs on delete cascade,
    snapshot_id uuid not null references snapshots on delete cascade,
    audience text not null,
    channel text not null check (channel in ({channel_types})),
    recipient text not null,
    state text not null check (state in ({delivery_states})),
    message_id text not null,
    next_attempt_at timestamptz not null,
    problem text,
    lease_owner uuid,
    lease_until timestamptz,
    created_at timestamptz not null,
    settled_at timestamptz,
    unique (run_id, audience, channel, recipient)
);
create index on deliveries (next_attempt_at) where state = 'waiting';

create table delivery_attempts (
    id bigserial primary key,
    delivery_id uuid not null references deliveries on delete cascade,
    started_at timestamptz not null,
    ended_at timestamptz,
    outcome text check (outcome in ({attempt_outcomes})),
    answer text
);
create index on delivery_attempts (delivery_id);
