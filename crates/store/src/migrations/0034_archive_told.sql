-- When the digest of a sealed day was mailed to somebody outside, and who is at it until when. Days
-- themselves are never changed.
create table archive_told (
    day date primary key references archive_days,
    telling_until timestamptz not null,
    told_at timestamptz
);
