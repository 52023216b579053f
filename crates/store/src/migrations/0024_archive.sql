-- What documents say, so that they are found by their words. It is put there once a run is done with
-- its documents, by whichever process comes first.
alter table snapshots add column searchable boolean not null default false;
create index snapshots_to_read on snapshots (created_at) where not searchable;
create table document_texts (
    snapshot_id uuid primary key references snapshots on delete cascade,
    text text not null,
    -- Names of hosts and services are no words of a language.
    words tsvector not null generated always as (to_tsvector('simple', text)) stored
);
create index document_texts_words on document_texts using gin (words);
create index documents_made on documents (created_at desc, id desc);

-- The address in "Name <address>".
create function address_of(recipient text) returns text language sql immutable as $$
    select lower(coalesce(substring(recipient from '<([^<>]+)>\s*$'), recipient))
$$;
create index deliveries_address on deliveries (address_of(recipient), settled_at) where channel = 'mail';
create index deliveries_snapshot on deliveries (snapshot_id);
