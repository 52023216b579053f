-- Somebody may be held to parameter values: to each name, those that they may see.
alter table users add column bounds jsonb;
-- The values that a snapshot was asked with, each as a list of texts. Those from before are not known, and
-- are shown to nobody who is held to values.
alter table snapshots add column chosen jsonb;

create function within_bounds(chosen jsonb, bounds jsonb) returns boolean language sql immutable as $$
    select chosen is not null and not exists (
        select from jsonb_each(bounds) as held(name, allowed)
        where not coalesce(jsonb_array_length(chosen -> held.name) > 0 and (chosen -> held.name) <@ held.allowed, false)
    )
$$;
