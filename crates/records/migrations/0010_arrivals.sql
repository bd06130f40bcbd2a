-- Arrivals: a card is in its device now, and somebody waits for the board to do its job.
create table arrivals (
    id bigint generated always as identity primary key,
    device_id bigint not null references devices on delete cascade,
    card_id bigint references cards,
    imprint_id bigint references imprints,
    -- What the device was when it began: earlier arrivals of the same kind say how long this one may take.
    appliance text not null,
    board text not null,
    base text not null default '',
    -- expected: not found yet. found: on its network. answers: what it says is read. ready: every check passed.
    state text not null default 'expected'
        check (state in ('expected', 'found', 'answers', 'ready', 'accepted', 'refused', 'stopped')),
    -- said: somebody said so. hello: the board did.
    began_how text not null check (began_how in ('said', 'hello')),
    waits_for text not null default '',
    operator text not null,
    began_at timestamptz not null default now(),
    found_at timestamptz,
    answered_at timestamptz,
    ready_at timestamptz,
    ended_at timestamptz,
    ended_by text,
    note text not null default '',
    -- Names of the cautions that were accepted.
    accepted text[] not null default '{}',
    -- An address that somebody gave for it.
    address text,
    -- The lamp pattern that somebody saw.
    lamp text,
    -- What was seen of it last, as it is shown.
    seen jsonb not null default '{}'
);
create unique index arrivals_open on arrivals (device_id) where ended_at is null;
create index arrivals_device on arrivals (device_id, id desc);
create index arrivals_kind on arrivals (appliance, board) where state = 'accepted';

-- What only a person can see or do.
create table arrival_steps (
    arrival_id bigint not null references arrivals on delete cascade,
    place integer not null,
    words text not null,
    note text not null default '',
    done_by text,
    done_at timestamptz,
    primary key (arrival_id, place)
);

-- What was seen of a device that is in service.
create table sightings (
    device_id bigint primary key references devices on delete cascade,
    imprint_id bigint references imprints,
    address text,
    -- Ports that are elsewhere than usual.
    ports jsonb not null default '{}',
    host_key text,
    certificate text,
    certificate_until timestamptz,
    version text,
    seen_at timestamptz,
    looked_at timestamptz,
    -- How often in a row nothing answered, and since when.
    misses integer not null default 0,
    silent_since timestamptz
);
create index sightings_due on sightings (looked_at);

-- The word that a card's stamp carries is good for one hello.
alter table imprints add column said_hello timestamptz;

-- What each lamp pattern of a board model means: a list of pattern, means, cause.
alter table board_models add column lamp_table jsonb not null default '[]';

-- Settings that an appliance exported of itself: an hour of tuning that lives on one card.
create table device_exports (
    id bigint generated always as identity primary key,
    device_id bigint not null references devices on delete cascade,
    -- What it was exported from.
    base text not null default '',
    version text not null default '',
    -- Sealed under the number of the device.
    sealed bytea not null,
    -- A keyed digest: two of one are equal.
    digest text not null,
    bytes bigint not null,
    taken_by text not null,
    taken_at timestamptz not null default now(),
    -- When it was last found to be still so.
    seen_at timestamptz not null default now()
);
create index device_exports_device on device_exports (device_id, id desc);

-- What a board said on a serial line while it was waited for.
create table arrival_lines (
    arrival_id bigint primary key references arrivals on delete cascade,
    port text not null,
    baud integer not null,
    -- Cut in the middle where it is long.
    text text not null default '',
    -- Why it ended, if not because somebody wanted it.
    problem text,
    began_at timestamptz not null default now(),
    ended_at timestamptz
);
