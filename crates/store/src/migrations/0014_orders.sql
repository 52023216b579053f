-- Orders with a key of their sender's: one that comes again gets the answer of the first.
create table orders (
    user_id uuid not null references users on delete cascade,
    key text not null,
    -- What was ordered, as a digest.
    digest text not null,
    answer jsonb,
    created_at timestamptz not null,
    primary key (user_id, key)
);
create index on orders (created_at);
