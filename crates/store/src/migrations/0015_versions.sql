-- Every text that a definition ever had, and its end.
create table definition_versions (
    kind text not null,
    name text not null,
    version int not null,
    file text not null,
    -- Nothing: it was removed.
    text text,
    saved_at timestamptz not null,
    saved_by text not null,
    -- By what: the console, the command line, or another program.
    saved_from text not null,
    message text,
    primary key (kind, name, version)
);
insert into definition_versions
    select kind, name, 1, file, text, updated_at, updated_by, 'before', null from definitions;
