-- Contents that are not whole in the vault, as far as is known: pieces of them are missing there or damaged.
create table content_damage (
    manifest bytea primary key,
    pieces bigint not null check (pieces > 0),
    found_at timestamptz not null default now()
);

-- Copies of the records in the vault are counted by the records themselves: a clock may run ahead.
create sequence records_copies;

-- The second vault is read share by share like the first one.
alter table vault_inspected rename column one to first;
alter table vault_inspected drop constraint if exists vault_inspected_one_check;
alter table vault_inspected drop constraint if exists vault_inspected_first_check;
