-- Named sets of values that several devices share: those of a site, or of the whole team.
create table presets (
    id bigint generated always as identity primary key,
    name text not null unique,
    title text not null default '',
    site text references sites,
    added_by text not null,
    added_at timestamptz not null default now()
);

-- Values of a preset; a secret is only ever here in sealed form.
create table preset_settings (
    preset_id bigint not null references presets on delete cascade,
    field text not null,
    value text,
    sealed bytea,
    set_by text not null,
    set_at timestamptz not null default now(),
    primary key (preset_id, field),
    check ((value is null) <> (sealed is null))
);

-- What is plugged into a device, and the hardware addresses of its ports.
alter table devices add column attached text[] not null default '{}';
alter table devices add column macs text[] not null default '{}';

-- What was found out or agreed when a device was set up, such as an account: always sealed.
create table device_facts (
    device_id bigint not null references devices on delete cascade,
    name text not null,
    sealed bytea not null,
    set_by text not null,
    set_at timestamptz not null default now(),
    primary key (device_id, name)
);

-- What growing the last partition came to, and partitions that were left as they are.
alter table imprints add column growth text;
alter table imprints add column left_out text[] not null default '{}';
