create index on documents (sha256);
