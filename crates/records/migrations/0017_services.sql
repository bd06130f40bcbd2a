-- Several services on the same records and the same vault. Each holds a lock of its number for as long as it lives.

create table services (
    number int generated always as identity primary key,
    -- What is kept in its data folder: it stays the same service over restarts.
    id text not null unique,
    -- Where the others reach it, and the certificate that it shows there; nothing of a service that is alone.
    address text,
    fingerprint text,
    -- Whether the readers of its own computer are slots.
    own_slots boolean not null,
    version text not null,
    -- Whether it has begun its work: before, it has nothing that others must ask for.
    ready boolean not null default false,
    started_at timestamptz not null default now()
);

create view live_services as
    select s.* from services s where exists (
        select from pg_locks l
        where l.locktype = 'advisory' and l.classid = 1685418099 and l.objsubid = 2 and l.granted
          and l.objid::bigint = s.number
          and l.database = (select oid from pg_database where datname = current_database()));

-- Who works on it. Nothing of what is older than this table: whoever worked on that has ended.
alter table jobs add column service int references services;
alter table round_attempts add column service int references services;
-- Where the bench is connected, or was last.
alter table benches add column service int references services;
