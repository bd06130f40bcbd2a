-- What is on each card, and what each device carries, is kept at hand: with tens of thousands of
-- imprints it takes too long to find out for each question. One trigger decides both, whoever changes
-- an imprint.

drop function settle_devices(bigint[]);
drop view card_states;
drop view carried;
drop view on_card;

-- The release whose content a write put onto its card: the one that was written, or the one that is in
-- the backup, however many backups and restores lie between.
alter table imprints add column origin_release_id bigint references releases;
with recursive origins (id, release_id) as (
    select id, release_id from imprints where release_id is not null
    union all
    select i.id, o.release_id from origins o
        join backups b on b.imprint_id = o.id join imprints i on i.backup_id = b.id
)
update imprints i set origin_release_id = o.release_id from origins o where o.id = i.id;

-- The newest imprint that touched the card, whatever became of it.
alter table cards add column imprint_id bigint references imprints;
update cards c set imprint_id = (select max(id) from imprints i
    where i.card_id = c.id and i.state not in ('planned', 'void'));
create unique index cards_imprint on cards (imprint_id);

-- The newest imprint of the device among those that are still on their cards.
alter table devices add column imprint_id bigint references imprints;
update devices d set imprint_id = (select max(i.id) from cards c join imprints i on i.id = c.imprint_id
    where i.device_id = d.id);
create index devices_imprint on devices (imprint_id);

create function settle_imprint() returns trigger language plpgsql as $$
declare
    whose bigint;
    carried_id bigint;
    carried_state text;
begin
    -- Card, then devices in order, each locked before it is looked at: two writes at once see each other.
    perform from cards where id = new.card_id for update;
    update cards set imprint_id = (select max(i.id) from imprints i
            where i.card_id = new.card_id and i.state not in ('planned', 'void'))
        where id = new.card_id;
    for whose in
        select distinct device_id from imprints where card_id = new.card_id and device_id is not null
        order by device_id
    loop
        perform from devices where id = whose for update;
        select i.id, i.state into carried_id, carried_state
            from imprints i join cards c on c.imprint_id = i.id
            where i.device_id = whose order by i.id desc limit 1;
        -- A device has a card while what it carries is whole.
        update devices d set imprint_id = carried_id, state = case
                when d.state not in ('planned', 'carded') then d.state
                when carried_state = 'verified' then 'carded'
                else 'planned' end
            where d.id = whose;
    end loop;
    return null;
end $$;
create trigger imprint_changed after update of state on imprints
    for each row execute function settle_imprint();
create trigger imprint_made after insert on imprints
    for each row when (new.state <> 'planned') execute function settle_imprint();

create view on_card as select i.* from cards c join imprints i on i.id = c.imprint_id;
create view carried as select i.* from devices d join imprints i on i.id = d.imprint_id;

-- The state of a card follows from what is on it, unless somebody said otherwise.
create view card_states as
    select c.id, case
        when c.state <> 'blank' then c.state
        when i.state = 'writing' then 'writing'
        when i.state = 'verified' then 'imprinted'
        when i.state is not null then 'incomplete'
        else 'blank' end as state
    from cards c left join imprints i on i.id = c.imprint_id;
