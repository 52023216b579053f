-- A second factor by codes that change with the time (RFC 6238): its key, sealed; since when it is asked
-- for; and the last step of time that a code was taken of, so that none is good twice.
alter table users add column second_factor bytea;
alter table users add column second_factor_at timestamptz;
alter table users add column second_factor_step bigint not null default 0;
-- Codes that are good once each, for whoever has lost their device.
create table recovery_codes (
    user_id uuid not null references users on delete cascade,
    code_hash text not null,
    primary key (user_id, code_hash)
);
