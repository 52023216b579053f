-- How often a run has been taken since it last went on in good order, and since when: a run
-- whose processes go silent again and again is given up, and its time limit counts over all of
-- them.
alter table runs
    add column claims integer not null default 0,
    add column claimed_at timestamptz;
