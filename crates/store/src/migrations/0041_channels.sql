-- What a delivery may travel by is more than it was when the table was made. What is there was checked by a
-- narrower list, so it is not looked at again.
alter table deliveries drop constraint if exists deliveries_channel_check;
alter table deliveries add constraint deliveries_channel_check check (channel in ({channel_types})) not valid;
