-- Why a backup was taken, whether it stays whatever the keep rules say, and whether its content was let go: the row
-- stays, because imprints and restores name it.
alter table backups
    add column reason text not null default '',
    add column pinned boolean not null default false,
    add column gone_at timestamptz,
    add column gone_by text,
    add column gone_why text;
-- A disk image that was brought in was read off no card, and a backup that the vault told of was taken by no job of
-- these records.
alter table backups
    alter column card_id drop not null,
    alter column job_id drop not null;
create index backups_there on backups (device_id, id desc) where gone_at is null;

-- What was shown of a backup, the newest of each level counts.
create table backup_proofs (
    id bigint generated always as identity primary key,
    backup_id bigint not null references backups on delete cascade,
    -- bytes: every chunk authenticated. file-systems: looked through by our own checks, journals carried out.
    -- files: what the first boot needs is there.
    level text not null check (level in ('bytes', 'file-systems', 'files', 'boots')),
    holds boolean not null,
    words text not null default '',
    proven_at timestamptz not null default now(),
    proven_by text not null
);
create index backup_proofs_newest on backup_proofs (backup_id, level, id desc);

-- How many backups stay: of the team where no device is named.
create table keep_rules (
    device_id bigint unique references devices on delete cascade,
    newest integer not null check (newest between 1 and 1000),
    daily integer not null check (daily between 0 and 1000),
    weekly integer not null check (weekly between 0 and 1000),
    monthly integer not null check (monthly between 0 and 1000),
    changed_by text not null,
    changed_at timestamptz not null default now()
);
create unique index keep_rules_team on keep_rules ((device_id is null)) where device_id is null;

-- How often a device, or each of an appliance, shall be backed up.
create table backup_intervals (
    device_id bigint unique references devices on delete cascade,
    appliance text unique,
    days integer not null check (days between 1 and 3650),
    changed_by text not null,
    changed_at timestamptz not null default now(),
    check ((device_id is null) <> (appliance is null))
);

-- What was found when the vault was looked at.
create table vault_looks (
    id bigint generated always as identity primary key,
    -- inspect, tidy, copy or records.
    what text not null,
    job_id bigint references jobs,
    at timestamptz not null default now(),
    -- What came of it, as it is shown.
    found jsonb not null,
    -- Whether it needs a hand.
    bad boolean not null
);
create index vault_looks_newest on vault_looks (what, id desc);
-- Where the next share of the vault that is inspected begins.
create table vault_inspected (
    one boolean primary key default true check (one),
    behind text not null,
    changed_at timestamptz not null default now()
);
-- What was taken away on purpose: a note of it in the vault brings it back no more.
create table vault_removed (
    what text not null,
    name text not null,
    removed_at timestamptz not null default now(),
    primary key (what, name)
);
-- What the vault held at the end of a day, for the plot of its growth.
create table vault_sizes (
    day date primary key,
    stored bigint not null,
    content bigint not null
);

alter table jobs drop constraint jobs_kind_check;
alter table jobs add constraint jobs_kind_check
    check (kind in ('import', 'write', 'restore', 'backup', 'compare', 'check', 'clear', 'put back', 'inspect', 'tidy',
        'copy', 'prove', 'keep records', 'take in'));
