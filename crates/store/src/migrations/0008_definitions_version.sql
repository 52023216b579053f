-- Counts every change of the definitions, whoever makes it: what was checked against one
-- version is written only while that is still the version. Not a time, which a clock that was
-- put right would bring back.
create table definitions_version (
    only_row boolean primary key default true check (only_row),
    version bigint not null
);
insert into definitions_version (version) values (1);

create function count_definitions_change() returns trigger language plpgsql as $$
begin
    update definitions_version set version = version + 1;
    return null;
end
$$;
create trigger count_change after insert or update or delete or truncate on definitions
    for each statement execute function count_definitions_change();
