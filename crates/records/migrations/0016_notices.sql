-- Who is told when something needs a person, and what was told.

create table notice_ways (
    id bigint generated always as identity primary key,
    name text not null check (char_length(name) between 1 and 64),
    kind text not null check (kind in ('mail', 'call')),
    -- An address of mail, or an URL.
    target text not null,
    -- What is told; nothing here: everything.
    about text[] not null,
    -- Sealed, what calls are signed with.
    secret bytea,
    added_by text not null,
    added_at timestamptz not null default now(),
    removed_at timestamptz
);
create unique index notice_ways_names on notice_ways (lower(name)) where removed_at is null;

create table notices (
    id bigint generated always as identity primary key,
    way_id bigint not null references notice_ways,
    -- The same matter is told once.
    key text not null,
    kind text not null,
    about text not null,
    words text not null,
    since timestamptz not null,
    queued_at timestamptz not null default now(),
    tries int not null default 0,
    next_at timestamptz not null default now(),
    sent_at timestamptz,
    given_up_at timestamptz,
    trouble text,
    unique (way_id, key)
);
create index notices_due on notices (next_at) where sent_at is null and given_up_at is null;
