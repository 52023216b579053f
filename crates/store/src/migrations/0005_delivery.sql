-- Audiences as they were found when the run began, and who is to look at it first.
alter table runs add column audiences jsonb;
alter table runs add column only_to jsonb;
alter table runs add column approval_deadline timestamptz;
alter table runs add column released_by text;

create index on runs (state, created_at);

-- How a snapshot's document was judged: its status, and why nothing is sent of it.
alter table snapshots add column status text;
alter table snapshots add column quiet text;

-- The same document for people who write numbers or dates in another way.
alter table documents add column variant text not null default '';
alter table documents drop constraint documents_snapshot_id_file_name_key;
alter table documents add unique (snapshot_id, variant, file_name);

alter table deliveries add column via text not null default '';
alter table deliveries add column role text not null default 'to' check (role in ({recipient_roles}));
alter table deliveries add column variant text not null default '';
alter table deliveries add column copy integer not null default 0;
alter table deliveries add column note text;
alter table deliveries add column requested_by text;
alter table deliveries drop constraint deliveries_run_id_audience_channel_recipient_key;
alter table deliveries add unique (run_id, audience, channel, via, recipient, copy);
create index on deliveries (message_id);
create index on deliveries (run_id, state);
create index on delivery_attempts (started_at);

-- Addresses that bounced too often, or that an administrator has suppressed.
create table bounced_addresses (
    address text primary key,
    hard_bounces integer not null,
    words text not null,
    last_at timestamptz not null,
    suppressed_at timestamptz
);

-- Recipients who took themselves off a report.
create table unsubscribes (
    report text not null,
    address text not null,
    unsubscribed_at timestamptz not null,
    primary key (report, address)
);

-- Links that open the documents of one delivery, or of one snapshot.
create table shared_links (
    id uuid primary key,
    run_id uuid not null references runs on delete cascade,
    snapshot_id uuid not null references snapshots on delete cascade,
    variant text not null,
    recipient text not null,
    expires_at timestamptz not null,
    revoked_at timestamptz,
    opened integer not null default 0,
    last_opened_at timestamptz
);
create index on shared_links (run_id);

-- What owners are told of; those that go in one mail have the same batch.
create table notices (
    id bigserial primary key,
    kind text not null,
    subject text not null,
    run_id uuid references runs on delete cascade,
    recipient text,
    text text not null,
    created_at timestamptz not null,
    batch uuid,
    told_at timestamptz,
    lease_until timestamptz,
    unique (kind, run_id)
);
create index on notices (created_at) where told_at is null;
create index on notices (subject, id);

-- Sources that have not answered lately.
create table source_failures (
    source text primary key,
    failures integer not null,
    since timestamptz not null,
    words text not null,
    last_run uuid
);
