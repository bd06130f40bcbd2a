-- Benches on other computers. Slots are named by bench and number: "2" is the service's own, "loft:2" another's.

create table benches (
    id bigint generated always as identity primary key,
    name text not null check (name ~ '^[a-z]([a-z0-9-]{0,13}[a-z0-9])?$'),
    added_by text not null,
    added_at timestamptz not null default now(),
    -- Digest of a code that enrols it once, and until when.
    code bytea,
    code_until timestamptz,
    -- Digest of what the enrolled computer shows.
    credential bytea,
    enrolled_at timestamptz,
    seen_at timestamptz,
    version text,
    removed_at timestamptz
);
create unique index benches_names on benches (name) where removed_at is null;
create unique index benches_credentials on benches (credential) where removed_at is null;

drop view carried;
drop view on_card;
alter table jobs alter column slot type text using slot::text;
alter table imprints alter column slot type text using slot::text;
alter table backups alter column slot type text using slot::text;
alter table round_attempts alter column slot type text using slot::text;
create view on_card as select i.* from cards c join imprints i on i.id = c.imprint_id;
create view carried as select i.* from devices d join imprints i on i.id = d.imprint_id;
