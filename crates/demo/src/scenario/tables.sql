create table scenario (anchor timestamptz not null, measured_until timestamptz not null);

create table ports (code text primary key, name text not null);
create table vessels (name text primary key, home_port text not null references ports);
create table hosts (name text primary key, role text not null, port text not null references ports);
create table services (name text primary key, title text not null, objective numeric(6, 3) not null);
create table kiosks (name text primary key, port text not null references ports);
create table certificates (host_name text primary key, issuer text not null, expires_at timestamptz not null);
create table maintenance (service text references services, starts_at timestamptz not null, ends_at timestamptz not null, title text not null);

create table host_samples (
    at timestamptz not null,
    host text not null references hosts,
    cpu_percent real not null,
    memory_percent real not null,
    disk_percent real not null,
    disk_free_bytes bigint not null
);
create table health_checks (
    at timestamptz not null,
    service text not null references services,
    ok boolean not null,
    latency_ms real
);
create table vessel_links (
    at timestamptz not null,
    vessel text not null references vessels,
    up boolean not null,
    latency_ms real,
    downlink_bits bigint not null
);
create table kiosk_sales (
    hour timestamptz not null,
    kiosk text not null references kiosks,
    sold integer not null,
    failed integer not null,
    revenue numeric(12, 2) not null
);
create table batch_runs (
    job text not null,
    started_at timestamptz not null,
    ended_at timestamptz,
    outcome text not null
);

create index on host_samples (at);
create index on health_checks (at);
create index on vessel_links (at);
create index on kiosk_sales (hour);
create index on batch_runs (started_at);
