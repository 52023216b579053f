-- Keys of devices that people sign in with (WebAuthn): the public half of each.
create table passkeys (
    id uuid primary key,
    user_id uuid not null references users on delete cascade,
    title text not null,
    credential text not null unique,
    passkey jsonb not null,
    created_at timestamptz not null,
    last_used_at timestamptz
);
create index passkeys_of_user on passkeys (user_id);

-- What was asked of a device and is not answered yet: of a user who adds one, or of whoever signs in.
create table passkey_challenges (
    id uuid primary key,
    user_id uuid references users on delete cascade,
    state jsonb not null,
    expires_at timestamptz not null
);
create index passkey_challenges_over on passkey_challenges (expires_at);
