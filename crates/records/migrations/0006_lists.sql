-- Long lists are asked for in pages; what is asked for often is found by an index, and what seldom
-- changes has a number that says whether it did.

-- How often the catalogue and the presets have changed: who keeps them at hand asks for the number.
create table changes (
    what text primary key,
    number bigint not null default 1
);
insert into changes (what) values ('catalogue'), ('presets');
create function count_change() returns trigger language plpgsql as $$
begin
    update changes set number = number + 1 where what = tg_argv[0];
    return null;
end $$;
create trigger changed after insert or update or delete on releases
    for each statement execute function count_change('catalogue');
create trigger changed after insert or update or delete on current_releases
    for each statement execute function count_change('catalogue');
create trigger changed after insert or update or delete on evidence
    for each statement execute function count_change('catalogue');
create trigger changed after insert or update or delete on board_models
    for each statement execute function count_change('catalogue');
create trigger changed after insert or update or delete on presets
    for each statement execute function count_change('presets');
create trigger changed after insert or update or delete on preset_settings
    for each statement execute function count_change('presets');

-- Values that only one device may have are looked for by their first word: a host name, an address
-- without its length.
create index settings_word on settings (lower(split_part(split_part(value, '/', 1), ' ', 1)));
create index settings_sealed on settings (field) where sealed is not null;
create index devices_macs on devices using gin (macs);
create index devices_kind on devices (appliance, variant, board);
create index devices_site on devices (site);
create index devices_state on devices (state);
create index devices_pinned on devices (pinned_release_id);
create index imprints_origin on imprints (origin_release_id);
create index imprints_base_backup on imprints (backup_id);
create index backups_device on backups (device_id, id desc);
create index jobs_card on jobs (card_id, id desc);

-- How often what is told about a device, or set on it, has changed: a table that was taken out before
-- does not undo what somebody else changed meanwhile.
alter table devices add column revision bigint not null default 1;
-- Names of the fields that are set on the device itself: whom a preset touches is told from them.
alter table devices add column own_fields text[] not null default '{}';
update devices d set own_fields = coalesce((select array_agg(field order by field) from settings where device_id = d.id), '{}');
create function count_revision() returns trigger language plpgsql as $$
begin
    new.revision := old.revision + 1;
    return new;
end $$;
create trigger told before update of name, board, appliance, variant, site, notes, attached, macs on devices
    for each row when ((old.name, old.board, old.appliance, old.variant, old.site, old.notes, old.attached, old.macs)
        is distinct from (new.name, new.board, new.appliance, new.variant, new.site, new.notes, new.attached, new.macs))
    execute function count_revision();
create function count_set() returns trigger language plpgsql as $$
begin
    update devices d set revision = revision + 1,
            own_fields = coalesce((select array_agg(field order by field) from settings where device_id = d.id), '{}')
        where id in (select device_id from touched);
    return null;
end $$;
create trigger set_new after insert on settings referencing new table as touched
    for each statement execute function count_set();
create trigger set_other after update on settings referencing new table as touched
    for each statement execute function count_set();
create trigger set_none after delete on settings referencing old table as touched
    for each statement execute function count_set();

-- A site, a device and a preset can be renamed.
alter table devices drop constraint devices_site_fkey;
alter table devices add constraint devices_site_fkey foreign key (site) references sites on update cascade;
alter table presets drop constraint presets_site_fkey;
alter table presets add constraint presets_site_fkey foreign key (site) references sites on update cascade;

-- A team may come to own more cards than four digits count.
alter table cards drop column label;
alter table cards add column label text not null unique
    generated always as ('C-' || lpad(id::text, greatest(4, length(id::text)), '0')) stored;

-- What people say of a card.
alter table cards add column notes text not null default '';

-- What lists are filtered by stands beside the number of the imprint: imprints are long, and a list of
-- devices or cards must not read them. They refer to nothing, since the imprint does: a reference would
-- lock rows in an order of its own.
alter table cards
    add column imprint_state text,
    add column device_id bigint,
    add column carried_release_id bigint;
update cards c set imprint_state = i.state, device_id = i.device_id,
        carried_release_id = case when i.state = 'verified' then i.origin_release_id end
    from imprints i where i.id = c.imprint_id;
create index cards_device on cards (device_id, imprint_id desc);
create index cards_carries on cards (carried_release_id);
alter table devices
    add column card_id bigint,
    add column card_state text,
    add column carried_release_id bigint,
    -- Whether it is known which settings its card carries.
    add column carried_known boolean not null default true;
update devices d set card_id = i.card_id, card_state = i.state,
        carried_release_id = case when i.state = 'verified' then i.origin_release_id end,
        carried_known = i.state = 'verified' and i.settings_known
    from imprints i where i.id = d.imprint_id;
create index devices_carries on devices (carried_release_id);

create or replace function settle_imprint() returns trigger language plpgsql as $$
declare
    whose bigint;
    found imprints;
    carried cards;
begin
    -- Card, then devices in order, each locked before it is looked at: two writes at once see each other.
    perform from cards where id = new.card_id for no key update;
    select * into found from imprints i
        where i.card_id = new.card_id and i.state not in ('planned', 'void') order by i.id desc limit 1;
    update cards set imprint_id = found.id, imprint_state = found.state, device_id = found.device_id,
            carried_release_id = case when found.state = 'verified' then found.origin_release_id end
        where id = new.card_id;
    for whose in
        select distinct device_id from imprints where card_id = new.card_id and device_id is not null
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
    return null;
end $$;

drop view card_states;
create view card_states as
    select c.id, case
        when c.state <> 'blank' then c.state
        when c.imprint_state = 'writing' then 'writing'
        when c.imprint_state = 'verified' then 'imprinted'
        when c.imprint_state is not null then 'incomplete'
        else 'blank' end as state
    from cards c;

-- What a device is searched by, in small letters.
alter table devices add column words text not null default '';
create function keep_words() returns trigger language plpgsql as $$
begin
    new.words := lower(concat_ws(' ', new.name, new.host_name, (select label from cards where id = new.card_id),
        new.notes, array_to_string(new.attached, ' '), array_to_string(new.macs, ' ')));
    return new;
end $$;
create trigger words before insert or update of name, host_name, notes, attached, macs, card_id on devices
    for each row execute function keep_words();
update devices set name = name;

-- What failed in a slot is said there until somebody has seen it.
alter table jobs add column seen_by text;
create index jobs_slot on jobs (slot, id desc) where slot is not null;

-- The networks that a write put onto its card, so that whose cards carry one is one question.
create table imprint_networks (
    imprint_id bigint not null references imprints on delete cascade,
    name text not null,
    -- Stands for the passphrase; empty where there is none.
    fingerprint text not null default '',
    primary key (imprint_id, name, fingerprint)
);
create index imprint_networks_name on imprint_networks (name, fingerprint);
create function networks_in(settings jsonb) returns table (name text, fingerprint text) language sql immutable as $$
    select n.value ->> 'name', coalesce(n.value ->> 'fingerprint', '')
        from jsonb_array_elements(settings) s, jsonb_array_elements(coalesce(s.value -> 'networks', '[]')) n
        where n.value ->> 'name' is not null
    union
    select s.value ->> 'value', coalesce((select regexp_replace(p.value ->> 'value', '^fingerprint ', '')
            from jsonb_array_elements(settings) p where p.value ->> 'kind' = 'passphrase' limit 1), '')
        from jsonb_array_elements(settings) s
        where s.value ->> 'kind' = 'network-name' and s.value ->> 'value' is not null
$$;
insert into imprint_networks (imprint_id, name, fingerprint)
    select i.id, n.name, n.fingerprint from imprints i, networks_in(i.settings) n;
create function keep_networks() returns trigger language plpgsql as $$
begin
    insert into imprint_networks (imprint_id, name, fingerprint)
        select new.id, n.name, n.fingerprint from networks_in(new.settings) n;
    return null;
end $$;
create trigger imprint_networks after insert on imprints for each row execute function keep_networks();
