-- Who belongs to the team, what each may do, how they prove who they are, and what they did.

create table people (
    id bigint generated always as identity primary key,
    name text not null check (char_length(name) between 1 and 64),
    role text not null check (role in ('looker', 'bench hand', 'keeper', 'owner')),
    -- Argon2id as a PHC string; none until an invitation was taken up.
    password text,
    pin text,
    -- Sealed secret of time-based codes (RFC 6238), and the newest time step that a code was used of.
    second_factor bytea,
    second_factor_step bigint not null default 0,
    made_by text not null,
    made_at timestamptz not null default now(),
    left_at timestamptz
);
create unique index people_names on people (lower(name)) where left_at is null;

-- A code that is good once: for making the first owner, for a new person, for a forgotten password.
create table invitations (
    digest bytea primary key,
    -- The person that it is for; none: whoever has it becomes an owner.
    person_id bigint references people (id),
    made_by text not null,
    expires_at timestamptz not null,
    used_at timestamptz
);

-- What a request shows instead of a password. Only digests are kept.
create table passes (
    id bigint generated always as identity primary key,
    digest bytea not null unique,
    -- What it was before it was changed; good for a moment longer, for requests that were under way.
    former bytea,
    former_until timestamptz,
    kind text not null check (kind in ('session', 'token', 'station')),
    -- Whose it is; a station's is nobody's.
    person_id bigint references people (id),
    name text not null,
    -- The most that may be done with it.
    role text not null check (role in ('looker', 'bench hand', 'keeper', 'owner')),
    made_by text not null,
    made_at timestamptz not null default now(),
    changed_at timestamptz not null default now(),
    used_at timestamptz not null default now(),
    used_from text not null,
    expires_at timestamptz not null,
    -- Who acts at a station for some minutes.
    acting_id bigint references people (id),
    acting_until timestamptz,
    ended_at timestamptz,
    constraint passes_whose check ((person_id is null) = (kind = 'station'))
);
create index passes_former on passes (former) where former is not null;
create index passes_person on passes (person_id) where ended_at is null;
create unique index passes_stations on passes (lower(name)) where kind = 'station' and ended_at is null;

-- Wrong passwords, codes and PINs, by account and by address.
create table tries (
    key text primary key,
    wrong int not null,
    last_at timestamptz not null
);

-- What people asked for. Each row's digest covers the row and the digest before it, under a key that is not in here.
create table history (
    id bigint primary key,
    at timestamptz not null,
    who text not null,
    role text not null,
    how text not null,
    origin text not null,
    act text not null,
    target text not null,
    about text not null,
    request text not null,
    digest bytea not null,
    -- How it was answered, once it was; with a digest of its own.
    status int,
    status_digest bytea
);
create index history_who on history (lower(who), id);

-- Where the chain ends.
create table history_head (
    single boolean primary key default true check (single),
    id bigint not null,
    digest bytea not null,
    seal bytea not null
);
