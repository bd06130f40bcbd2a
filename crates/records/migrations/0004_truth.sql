-- What is on a card and what a device carries is derived from imprints, in one place: the newest
-- that was begun on the medium counts, whatever became of it.

alter table imprints drop constraint imprints_state_check;
-- in doubt: the service ended while the card was written; it is looked at when it is seen again.
alter table imprints add constraint imprints_state_check
    check (state in ('planned', 'writing', 'in doubt', 'verified', 'incomplete', 'void'));
alter table imprints
    -- What is known of a card whose write did not end well.
    add column left_as text check (left_as in ('unfinished', 'may boot')),
    -- Whether the card was shown to hold all that it reports.
    add column size_proven boolean not null default false,
    -- A restore carries the settings of its backup's card, where those are known.
    add column settings_known boolean not null default true,
    -- Where data behind the last partition ends that belongs to what was written.
    add column behind bigint;
update imprints set settings_known = false where backup_id is not null;
update imprints set left_as = 'unfinished' where state = 'incomplete';

create view on_card as
    select distinct on (card_id) * from imprints
    where state not in ('planned', 'void') order by card_id, id desc;

-- The newest imprint of each device among those that are still on their cards.
create view carried as
    select distinct on (device_id) * from on_card
    where device_id is not null order by device_id, id desc;

-- The state of a card follows from what is on it, unless somebody said otherwise.
alter table cards drop column device_id;
update cards set state = 'blank' where state in ('writing', 'incomplete', 'imprinted');
create view card_states as
    select c.id, case
        when c.state <> 'blank' then c.state
        when i.state = 'writing' then 'writing'
        when i.state = 'verified' then 'imprinted'
        when i.state is not null then 'incomplete'
        else 'blank' end as state
    from cards c left join on_card i on i.card_id = c.id;

-- A device has a card while what it carries is whole.
create function settle_devices(bigint[]) returns void language sql as $$
    update devices d set state = case
        when exists (select from carried i where i.device_id = d.id and i.state = 'verified') then 'carded'
        else 'planned' end
    where d.id = any($1) and d.state in ('planned', 'carded')
$$;
select settle_devices(array(select id from devices));

create index imprints_unsettled on imprints (id) where state in ('planned', 'writing', 'in doubt');
create index backups_card on backups (card_id, id desc);

-- What a request key was used for: another request under the same key is refused.
alter table jobs add column request_digest bytea;

-- Which key file these records were sealed under; one row.
create table team (
    single boolean primary key default true check (single),
    key_fingerprint bytea not null
);
