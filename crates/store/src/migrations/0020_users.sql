-- Users are invited, disabled and removed; their sessions can be told apart and ended; tokens
-- may end by themselves.
alter table users add column email text;
alter table users add column disabled_at timestamptz;
alter table sessions add column id uuid not null default gen_random_uuid() unique;
alter table sessions add column address text;
alter table sessions add column used_with text;
alter table api_tokens add column expires_at timestamptz;
create table invitations (
    token_hash text primary key,
    user_id uuid not null references users on delete cascade,
    created_at timestamptz not null,
    expires_at timestamptz not null
);
create index invitations_of_user on invitations (user_id);
