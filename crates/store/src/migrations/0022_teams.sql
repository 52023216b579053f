-- Who shares definitions, and runs made of them. A run belongs for good to the team that its report
-- belonged to when it was made; the empty name means all.
create table teams (
    name text primary key,
    title text not null,
    -- Patterns of the mail addresses that its reports may go to; any if there are none.
    addresses text[] not null default array[]::text[],
    created_at timestamptz not null
);
create table team_members (
    team text not null references teams on delete cascade,
    user_id uuid not null references users on delete cascade,
    -- Owners add and remove members.
    owner boolean not null,
    primary key (team, user_id)
);
create index team_members_of_user on team_members (user_id);
alter table runs add column team text not null default '';
create index runs_of_team on runs (team, created_at desc, id desc);

alter table run_counts add column team text not null default '';
create or replace function count_added_runs() returns trigger language plpgsql as $$ begin
    insert into run_counts (report, state, team, count) select report, state, team, count(*) from added group by report, state, team;
    return null;
end $$;
create or replace function count_changed_runs() returns trigger language plpgsql as $$ begin
    insert into run_counts (report, state, team, count) select report, state, team, sum(n) from (
        select report, state, team, 1 as n from added union all select report, state, team, -1 from removed) changed
    group by report, state, team having sum(n) <> 0;
    return null;
end $$;
create or replace function count_removed_runs() returns trigger language plpgsql as $$ begin
    insert into run_counts (report, state, team, count) select report, state, team, -count(*) from removed group by report, state, team;
    return null;
end $$;
