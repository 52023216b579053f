-- A token may be good for one thing alone, such as reading the agenda from a calendar program.
alter table api_tokens add column scope text not null default 'all' check (scope in ('all', 'agenda'));
