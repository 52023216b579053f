-- What is published: a dashboard, looked at anew, or the view of a run; for whoever has the address, or
-- for whoever signs in and sees it. The address is signed and stands nowhere.
create table published_views (
    id uuid primary key,
    dashboard text,
    snapshot_id uuid references snapshots on delete cascade,
    title text not null,
    -- Whose it is; empty if it is for all.
    team text not null,
    -- How a dashboard is looked at: window, zone, values, and those to choose from.
    look jsonb not null,
    signed_in boolean not null,
    password_hash text,
    expires_at timestamptz,
    revoked_at timestamptz,
    opened bigint not null default 0,
    last_opened_at timestamptz,
    made_by text not null,
    made_at timestamptz not null,
    check ((dashboard is null) <> (snapshot_id is null)),
    -- What anybody may open comes to an end.
    check (signed_in or expires_at is not null)
);
create index published_views_team on published_views (team, made_at desc);
create index published_views_snapshot on published_views (snapshot_id);
