-- A claim has a token of its own in lease_owner; which process made it stands beside it.
alter table runs add column lease_process uuid;
alter table deliveries add column lease_process uuid;
create index on deliveries (lease_process) where lease_owner is not null;
create index on runs (lease_process) where lease_owner is not null;
create index on delivery_attempts (delivery_id) where ended_at is null;

-- The source that a notice is about is its subject, not a part of its kind.
alter table notices drop constraint notices_kind_run_id_key;
update notices set kind = split_part(kind, ' ', 1);
alter table notices
    add constraint notices_kind_check check (kind in ({notice_kinds})),
    add unique (kind, subject, run_id);
