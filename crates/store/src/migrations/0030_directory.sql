-- Who signs in by the organisation's directory: the name of their entry there, and since when the
-- directory does not let them in any more.
alter table users add column directory_entry text;
alter table users add column directory_left_at timestamptz;
