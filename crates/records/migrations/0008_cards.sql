-- What is known of a card beside what was written onto it: where it came from, what checks found, why it
-- is mistrusted, what was last done to the card itself.

alter table cards
    add column brand text not null default '',
    add column seller text not null default '',
    add column batch text not null default '',
    add column price text not null default '',
    -- What the medium says of itself, where its reader passes that on.
    add column identity text,
    -- Why nothing is written to it until somebody says that it is good, or a full check proves it.
    add column suspicion text,
    -- The check or clearing that changed the card and has not ended well yet.
    add column unfinished_job bigint references jobs,
    -- Imprints up to this one are not on it any more: it was cleared, or checked from end to end.
    add column cleared_after bigint not null default 0,
    -- What the newest check with a verdict found: proven, no sign, forged or bad.
    add column verdict text check (verdict in ('proven', 'no sign', 'forged', 'bad'));
create index cards_origin on cards (brand, batch) where brand <> '' or batch <> '';

-- Each check of a card; it is made before the card is touched.
create table card_checks (
    id bigint generated always as identity primary key,
    card_id bigint not null references cards,
    job_id bigint not null unique references jobs,
    kind text not null check (kind in ('quick', 'full')),
    -- under way or cut off: none; else proven, no sign, forged, bad or stopped.
    verdict text check (verdict in ('proven', 'no sign', 'forged', 'bad', 'stopped')),
    -- Of a forged card: what it holds at least and at most, in bytes.
    least bigint,
    most bigint,
    report jsonb not null default '{}',
    operator text not null,
    started_at timestamptz not null default now(),
    finished_at timestamptz
);
create index card_checks_card on card_checks (card_id, id desc);

-- How fast a card was along its length, by stage, as the job saw it.
alter table jobs add column speeds jsonb;

alter table jobs drop constraint jobs_kind_check;
alter table jobs add constraint jobs_kind_check
    check (kind in ('import', 'write', 'restore', 'backup', 'compare', 'check', 'clear', 'put back'));

-- What was seen of a card or device in the field: a symptom, in somebody's words.
create table faults (
    id bigint generated always as identity primary key,
    card_id bigint references cards,
    device_id bigint references devices on delete cascade,
    symptom text not null,
    operator text not null,
    at timestamptz not null default now(),
    check (card_id is not null or device_id is not null)
);
create index faults_card on faults (card_id, id desc);
create index faults_device on faults (device_id, id desc);

-- A device whose card is out is down, until somebody says that it works again.
create table outages (
    id bigint generated always as identity primary key,
    device_id bigint not null references devices on delete cascade,
    -- The card that was taken out; it is held until the outage ends.
    card_id bigint references cards,
    reason text not null default '',
    operator text not null,
    since timestamptz not null default now(),
    ended_at timestamptz,
    ended_by text,
    -- The original card is back, or a new one works.
    ended_how text check (ended_how in ('original', 'new'))
);
create unique index outages_open on outages (device_id) where ended_at is null;
create index outages_card on outages (card_id);

-- What was cleared away is not on the card any more.
create or replace function settle_card(which bigint) returns void language plpgsql as $$
declare
    whose bigint;
    found imprints;
    carried cards;
begin
    -- Card, then devices in order, each locked before it is looked at: two writes at once see each other.
    perform from cards where id = which for no key update;
    select i.* into found from imprints i join cards c on c.id = i.card_id
        where i.card_id = which and i.id > c.cleared_after and i.state not in ('planned', 'void')
        order by i.id desc limit 1;
    update cards set imprint_id = found.id, imprint_state = found.state, device_id = found.device_id,
            carried_release_id = case when found.state = 'verified' then found.origin_release_id end
        where id = which;
    for whose in
        select distinct device_id from imprints where card_id = which and device_id is not null
        order by device_id
    loop
        perform from devices where id = whose for no key update;
        select * into carried from cards c where c.device_id = whose order by c.imprint_id desc limit 1;
        -- A device has a card while what it carries is whole.
        update devices d set imprint_id = carried.imprint_id, card_id = carried.id,
                card_state = carried.imprint_state, carried_release_id = carried.carried_release_id,
                carried_known = carried.imprint_id is null or (carried.imprint_state = 'verified'
                    and (select settings_known from imprints where id = carried.imprint_id)),
                state = case
                    when d.state not in ('planned', 'carded') then d.state
                    when carried.imprint_state = 'verified' then 'carded'
                    else 'planned' end
            where d.id = whose;
    end loop;
end $$;
create or replace function settle_imprint() returns trigger language plpgsql as $$
begin
    perform settle_card(new.card_id);
    -- What is written anew is not the unfinished thing that it was.
    if new.state in ('verified', 'incomplete') then
        update cards set unfinished_job = null where id = new.card_id and unfinished_job is not null;
    end if;
    return null;
end $$;

drop view card_states;
create view card_states as
    select c.id, case
        when c.state <> 'blank' then c.state
        when c.imprint_state = 'writing' then 'writing'
        when c.unfinished_job is not null then 'incomplete'
        when c.imprint_state = 'verified' then 'imprinted'
        when c.imprint_state is not null then 'incomplete'
        else 'blank' end as state
    from cards c;
