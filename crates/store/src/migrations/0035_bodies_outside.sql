-- Bodies that are kept in a folder or in object storage, each under its SHA-256.
create table outside_bodies (
    sha256 text primary key check (sha256 ~ '^[0-9a-f]+$' and length(sha256) = 64),
    size bigint not null,
    -- Nobody removes it before: somebody is putting it there, or it has become unused only just.
    not_before timestamptz not null,
    -- Whether it may be that no row has it any more.
    loose boolean not null default true,
    unused_since timestamptz,
    -- It is being removed, and no row may have it any more.
    going boolean not null default false
);
create index outside_bodies_loose on outside_bodies (not_before) where loose;

alter table documents add column outside text references outside_bodies (sha256);
alter table snapshots add column outside text references outside_bodies (sha256);
alter table pictures add column outside text references outside_bodies (sha256);

create index documents_outside on documents (outside) where outside is not null;
create index snapshots_outside on snapshots (outside) where outside is not null;
create index pictures_outside on pictures (outside) where outside is not null;
create index documents_inside on documents (id) where outside is null and octet_length(body) > 0;
create index snapshots_inside on snapshots (id) where outside is null and octet_length(body) > 0;
create index pictures_inside on pictures (id) where outside is null and octet_length(body) > 0;

-- Whatever takes a body from a row, it is looked at whether another has it.
create function let_go_of_body() returns trigger language plpgsql as $$
begin
    update outside_bodies set loose = true where sha256 = old.outside and not loose;
    return null;
end
$$;
create trigger let_go_of_body after update of outside on documents for each row
    when (old.outside is distinct from new.outside and old.outside is not null) execute function let_go_of_body();
create trigger let_go_of_body after update of outside on snapshots for each row
    when (old.outside is distinct from new.outside and old.outside is not null) execute function let_go_of_body();
create trigger let_go_of_body after update of outside on pictures for each row
    when (old.outside is distinct from new.outside and old.outside is not null) execute function let_go_of_body();
create trigger document_lets_go_of_body after delete on documents for each row
    when (old.outside is not null) execute function let_go_of_body();
create trigger snapshot_lets_go_of_body after delete on snapshots for each row
    when (old.outside is not null) execute function let_go_of_body();
create trigger picture_lets_go_of_body after delete on pictures for each row
    when (old.outside is not null) execute function let_go_of_body();
