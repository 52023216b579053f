-- The last entry of the audit trail that was handed on to a syslog receiver. There is one row.
create table audit_forwarded (
    only_one boolean primary key default true check (only_one),
    last bigint not null
);
insert into audit_forwarded (last) values (0);
