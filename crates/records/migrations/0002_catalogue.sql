-- The catalogue: what was found in an image, where it came from, which release is current where,
-- what was noted about it, and the feeds of publishers.

alter table board_models
    add column memory_mb integer,
    add column ports text not null default '',
    add column power text not null default '',
    add column lamps text not null default '',
    add column boot_minutes double precision,
    add column card_sits text not null default '';

alter table releases
    -- Architectures, boot files, partitions with what is used, gaps, findings.
    add column inspection jsonb not null default '{}',
    -- Bytes that matter.
    add column content bigint not null default 0,
    -- The smallest card as the image is, and if its last file system were shrunk.
    add column computed_card bigint not null default 0,
    add column shrunk_card bigint,
    -- Way, address, publisher's checksum and what it was compared with.
    add column origin jsonb not null default '{}',
    -- Whether the packed file is kept beside the vault.
    add column kept boolean not null default false,
    add column sheet_revision integer not null default 1;
update releases set computed_card = smallest_card;
create index releases_content on releases (raw_sha256);

-- Every text that the sheet of a release ever had.
create table sheet_revisions (
    release_id bigint not null references releases,
    revision integer not null,
    sheet text not null,
    operator text not null,
    at timestamptz not null default now(),
    primary key (release_id, revision)
);
insert into sheet_revisions (release_id, revision, sheet, operator, at)
    select id, 1, sheet, added_by, added_at from releases;

-- Every state that a release was ever in, with the reason.
create table release_states (
    id bigint generated always as identity primary key,
    release_id bigint not null references releases,
    state text not null,
    reason text not null default '',
    operator text not null,
    at timestamptz not null default now()
);
create index release_states_release on release_states (release_id, id desc);

-- Which release is current for an appliance, variant and board model; former ones stay.
create table current_releases (
    id bigint generated always as identity primary key,
    appliance text not null,
    variant text not null default '',
    board text not null references board_models,
    release_id bigint not null references releases,
    operator text not null,
    from_at timestamptz not null default now(),
    until_at timestamptz
);
create unique index current_releases_one on current_releases (appliance, variant, board) where until_at is null;

-- What somebody saw at the bench: whether a release boots on a board model.
create table evidence (
    id bigint generated always as identity primary key,
    release_id bigint not null references releases,
    board text not null references board_models,
    boots boolean not null,
    note text not null default '',
    operator text not null,
    at timestamptz not null default now()
);
create index evidence_release on evidence (release_id, board, id desc);

-- A device follows what is current, unless a release is pinned.
alter table devices add column pinned_release_id bigint references releases;

-- Why a withdrawn release was written all the same.
alter table imprints add column override_reason text;

-- Publishers whose news the team follows.
create table feeds (
    name text primary key,
    url text not null,
    user_name text,
    sealed_password bytea,
    added_by text not null,
    added_at timestamptz not null default now(),
    looked_at timestamptz,
    trouble text
);

create table feed_items (
    feed text not null references feeds on delete cascade,
    item text not null,
    -- The item as the publisher describes it.
    described jsonb not null,
    first_seen timestamptz not null default now(),
    -- Seen at the look before the last one: no news any more.
    known boolean not null default false,
    release_id bigint references releases,
    primary key (feed, item)
);

alter table jobs drop constraint jobs_kind_check;
alter table jobs add constraint jobs_kind_check check (kind in ('import', 'write', 'restore', 'backup', 'compare'));
