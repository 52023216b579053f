-- Rows are here only inside the transaction that puts them together, so they need not outlive a
-- crash.
create unlogged table body_parts (
    id uuid not null,
    position int not null,
    part bytea not null,
    primary key (id, position)
);
alter table body_parts alter column part set storage external;

-- The next run to work on is the first in this index, however many wait.
drop index runs_open;
create index runs_open on runs (created_at) where state in ({work_states});
