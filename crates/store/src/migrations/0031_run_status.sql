-- How the content of a run was judged: the worst of its snapshots, beside its state in every list.
alter table runs add column status text;
update runs set status = judged.status from (
    select run_id, case when bool_or(lower(status) = 'critical') then 'critical' when bool_or(lower(status) = 'warning') then 'warning'
        when bool_or(lower(status) = 'unknown') then 'unknown' else 'ok' end as status
    from snapshots where status is not null group by run_id
) judged where judged.run_id = runs.id;
