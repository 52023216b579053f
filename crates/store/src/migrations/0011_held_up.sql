-- Whether a delivery waits because nobody could be reached on its channel: it is tried as soon
-- as somebody can.
alter table deliveries add column held_up boolean not null default false;
create index on deliveries (via, next_attempt_at) where state = 'waiting';
