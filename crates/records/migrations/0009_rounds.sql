-- Rounds: one sitting at the bench, a list of cards that are made in turn as blank ones go in.
create table rounds (
    id bigint generated always as identity primary key,
    title text not null,
    -- planned: not confirmed yet. trial: the first card was made, and waits for somebody to say that it does its job.
    state text not null default 'planned'
        check (state in ('planned', 'running', 'trial', 'paused', 'done', 'stopped')),
    why text,
    operator text not null,
    created_at timestamptz not null default now(),
    confirmed_at timestamptz,
    ended_at timestamptz,
    trial_first boolean not null default false,
    trial_accepted boolean not null default false,
    stop_after integer not null check (stop_after between 1 and 1000),
    -- Since it last went on.
    failures integer not null default 0,
    wipe_free boolean not null default false,
    -- Names of the cautions that were accepted.
    accepted text[] not null default '{}'
);
-- Whoever puts a card in knows which round it is for.
create unique index rounds_under_way on rounds ((true)) where state in ('running', 'trial');

create table round_entries (
    id bigint generated always as identity primary key,
    round_id bigint not null references rounds on delete cascade,
    place integer not null,
    device_id bigint references devices on delete cascade,
    base text not null,
    from_backup boolean not null default false,
    smallest_card bigint not null default 0,
    cautions jsonb not null default '[]',
    -- unsure: its write was cut off, and nobody can tell what is on its card until that is seen again.
    state text not null default 'waiting'
        check (state in ('waiting', 'at work', 'unsure', 'done', 'failed', 'skipped')),
    why text,
    unique (round_id, place)
);
create index round_entries_open on round_entries (id) where state in ('at work', 'unsure');
create index round_entries_device on round_entries (device_id);

create table round_attempts (
    id bigint generated always as identity primary key,
    entry_id bigint not null references round_entries on delete cascade,
    card_id bigint references cards,
    slot integer not null,
    -- None until the job is a row.
    job_id bigint references jobs,
    began_at timestamptz not null default now()
);
create index round_attempts_entry on round_attempts (entry_id, id desc);
create index round_attempts_without_job on round_attempts (id) where job_id is null;

-- Cards that may be written in a round although they are not blank, as long as nothing else was written onto them.
create table round_cards (
    round_id bigint not null references rounds on delete cascade,
    card_id bigint not null references cards,
    imprint_id bigint,
    primary key (round_id, card_id)
);

-- Cautions of its plan that were accepted by name.
alter table imprints add column accepted text[] not null default '{}';
create index imprints_job on imprints (job_id);

-- How fast a card was when it was last written and read, in bytes a second.
alter table cards
    add column write_rate double precision,
    add column read_rate double precision;
with points as (
    select j.id, j.card_id, c.value->>'stage' as stage, (p.value->>1)::float8 as rate,
        (p.value->>0)::float8 - coalesce(lag((p.value->>0)::float8) over (partition by j.id, c.value->>'stage'
            order by p.ordinality), 0) as bytes
    from jobs j, jsonb_array_elements(j.speeds) c, jsonb_array_elements(c.value->'points') with ordinality p
    where j.card_id is not null and j.speeds is not null
), rates as (
    select distinct on (card_id, stage) card_id, stage, sum(bytes) / nullif(sum(bytes / greatest(rate, 1)), 0) as rate
    from points group by id, card_id, stage order by card_id, stage, id desc
)
update cards set
    write_rate = (select rate from rates where card_id = cards.id and stage = 'writing'),
    read_rate = (select max(rate) from rates where card_id = cards.id and stage in ('verifying', 'reading'));
