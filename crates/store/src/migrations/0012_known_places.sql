-- From which addresses each user has signed in: a name that others guess at stays open for its
-- owner there.
create table known_places (
    name text not null,
    address text not null,
    last_at timestamptz not null,
    primary key (name, address)
);
create index on sign_in_failures (last_at);
