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
create index devices_pinned on devices (pinned_release_id);
create index imprints_origin on imprints (origin_release_id);
create index imprints_base_backup on imprints (backup_id);
create index backups_device on backups (device_id, id desc);
create index jobs_card on jobs (card_id, id desc);

-- How often what is told about a device, or set on it, has changed: a table that was taken out before
-- does not undo what somebody else changed meanwhile.
alter table devices add column revision bigint not null default 1;
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
    update devices set revision = revision + 1 where id in (select device_id from touched);
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

-- What people say of a card.
alter table cards add column notes text not null default '';

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
