-- Who signs in by the organisation's identity provider: what it calls them for good, by which it can
-- be looked whether they are still let in (sealed), and when that was done last.
alter table users add column provider_subject text unique;
alter table users add column provider_grant bytea;
alter table users add column provider_looked_at timestamptz;
create index users_by_look on users (provider_looked_at) where provider_grant is not null;
