-- What the team has: kinds of boards, places, devices.
create table board_models (
    name text primary key,
    title text not null,
    architecture text not null
);

create table sites (
    name text primary key,
    title text not null
);

-- One version of an appliance's image in the catalogue.
create table releases (
    id bigint generated always as identity primary key,
    name text not null unique,
    appliance text not null,
    variant text,
    version text not null,
    dated text,
    boards text[] not null,
    state text not null default 'released' check (state in ('draft', 'released', 'withdrawn')),
    sheet text not null,
    source text not null,
    packing text not null,
    packed_size bigint not null,
    packed_sha256 bytea not null,
    raw_size bigint not null,
    raw_sha256 bytea not null,
    smallest_card bigint not null,
    table_kind text not null,
    disk_id text not null,
    partitions jsonb not null,
    manifest bytea not null,
    stored bigint not null,
    added_by text not null,
    added_at timestamptz not null default now()
);
create index releases_newest on releases (appliance, id desc);

create table devices (
    id bigint generated always as identity primary key,
    name text not null unique,
    board text not null references board_models,
    appliance text not null,
    variant text,
    site text not null references sites,
    notes text not null default '',
    state text not null default 'planned'
        check (state in ('planned', 'carded', 'in service', 'down', 'retired')),
    host_name text,
    added_by text not null,
    added_at timestamptz not null default now()
);
-- Two boards with one name on one network cannot both be found.
create unique index devices_host_name on devices (site, lower(host_name)) where state <> 'retired';

-- Values of fields; a secret is only ever here in sealed form.
create table settings (
    device_id bigint not null references devices on delete cascade,
    field text not null,
    value text,
    sealed bytea,
    set_by text not null,
    set_at timestamptz not null default now(),
    primary key (device_id, field),
    check ((value is null) <> (sealed is null))
);

-- One storage medium with a label that fits on a sticker.
create table cards (
    id bigint generated always as identity primary key,
    label text not null unique generated always as ('C-' || lpad(id::text, 4, '0')) stored,
    size bigint not null,
    kind text not null,
    state text not null default 'blank'
        check (state in ('blank', 'writing', 'incomplete', 'imprinted', 'in device', 'spare', 'held',
                         'suspect', 'lost', 'retired')),
    -- Digest of head and tail when the card was last seen without a stamp of ours.
    edges bytea,
    device_id bigint references devices,
    added_by text not null,
    added_at timestamptz not null default now()
);
create index cards_device on cards (device_id);

-- A job is a row before it is work.
create table jobs (
    id bigint generated always as identity primary key,
    kind text not null check (kind in ('import', 'write', 'restore', 'backup')),
    state text not null default 'waiting'
        check (state in ('waiting', 'running', 'done', 'failed', 'cancelled', 'interrupted')),
    subject text not null,
    slot integer,
    card_id bigint references cards,
    operator text not null,
    request_key text unique,
    created_at timestamptz not null default now(),
    started_at timestamptz,
    finished_at timestamptz,
    error_code text,
    error text,
    result jsonb
);
create index jobs_unfinished on jobs (id) where state in ('waiting', 'running');

create table backups (
    id bigint generated always as identity primary key,
    name text not null unique,
    card_id bigint not null references cards,
    device_id bigint references devices,
    imprint_id bigint,
    job_id bigint not null references jobs,
    card_size bigint not null,
    content bigint not null,
    smallest_card bigint not null,
    table_kind text not null,
    partitions jsonb not null,
    manifest bytea not null,
    stored bigint not null,
    verified text not null,
    slot integer not null,
    -- The insertion it was read in: while it lasts, that card is not a target of the restore.
    insertion bigint not null,
    taken_by text not null,
    taken_at timestamptz not null default now()
);

-- The record of one write. It is made before the card is touched.
create table imprints (
    id bigint generated always as identity primary key,
    card_id bigint not null references cards,
    device_id bigint references devices,
    release_id bigint references releases,
    backup_id bigint references backups,
    base text not null,
    job_id bigint not null references jobs,
    slot integer not null,
    operator text not null,
    -- planned: the card is untouched so far; void: it stayed untouched.
    state text not null default 'planned'
        check (state in ('planned', 'writing', 'verified', 'incomplete', 'void')),
    settings jsonb not null,
    files jsonb not null,
    manifest bytea,
    written bigint,
    verified bigint,
    started_at timestamptz not null default now(),
    finished_at timestamptz,
    check ((release_id is null) <> (backup_id is null))
);
create index imprints_card on imprints (card_id, id desc);
create index imprints_device on imprints (device_id, id desc);
create index imprints_release on imprints (release_id);
alter table backups add foreign key (imprint_id) references imprints;

-- What happened, in the order in which it was committed.
create table events (
    id bigint generated always as identity primary key,
    at timestamptz not null default now(),
    operator text not null,
    kind text not null,
    subject text not null,
    summary text not null
);
