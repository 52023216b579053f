-- What samplers have kept, when each is asked next, and secrets that are stored encrypted.
create table sampler_states (
    sampler text primary key,
    next_at timestamptz not null,
    last_at timestamptz,
    -- What the last answer was: a count of rows, or what went wrong.
    detail text,
    works boolean not null default true,
    tidied_at timestamptz
);

create table samples (
    sampler text not null,
    at timestamptz not null,
    body jsonb not null,
    primary key (sampler, at)
);

create table secrets (
    name text primary key,
    sealed bytea not null,
    updated_at timestamptz not null,
    updated_by text not null
);
