-- The runs of each day are counted without reading them also where it matters whose they are.
drop index runs_scheduled;
create index runs_scheduled on runs (scheduled_for) include (report, state, team);
