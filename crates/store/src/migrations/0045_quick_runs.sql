-- A run is claimed by one question instead of four. Processes claim in turns, so that two runs of one report never
-- begin at once; what the process before has claimed is seen, as each statement of a function sees what was written
-- before it began. The oldest is taken, and there is an index in that order; a server that has not counted the rows
-- since thousands came at once would rather sort all of them each time. Whether another run is under way is asked as a
-- value, and so for the one run that it is asked of: as a condition, all that are under way would be gathered first.
create function claim_run(process uuid, at timestamptz, until timestamptz, in_hand uuid[], states text[]) returns setof runs
    language plpgsql set enable_sort = off set enable_bitmapscan = off as $$ begin
    perform pg_advisory_xact_lock(7302419);
    return query update runs set lease_owner = gen_random_uuid(), lease_process = process, lease_until = until,
        started_at = coalesce(started_at, at), claims = claims + 1, claimed_at = coalesce(claimed_at, clock_timestamp())
    where id = (
        select id from runs mine
        where state in ({work_states}) and state = any(states) and (state <> 'waiting' or next_check_at <= at)
            and (lease_until is null or lease_until < at) and not (id = any(in_hand)) and (select is_same_database())
            and (may_overlap or (
                select true from runs other
                where other.report = mine.report and other.id <> mine.id and other.lease_until >= at
                    and other.state in ({work_states}) limit 1) is null)
        order by created_at for update skip locked limit 1)
    returning *;
end $$;

-- What a run was made from lies beside its row, which changes five times until it is settled and is copied each time.
alter table runs set (toast_tuple_target = 640);
