-- The runs of each day are counted without reading them.
drop index runs_scheduled;
create index runs_scheduled on runs (scheduled_for) include (report, state);
