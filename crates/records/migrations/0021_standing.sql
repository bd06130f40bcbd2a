-- Since when a device stands as it does, as it was noticed first.
create table device_standings (
    device_id bigint primary key references devices on delete cascade,
    standing text not null,
    since timestamptz not null default now()
);

-- Since when a card is suspect.
alter table cards add column suspected_at timestamptz;
update cards set suspected_at = now() where suspicion is not null;
-- A fault is handled when its card is trusted again; accepting, bringing back or writing the device ends it as well.
alter table faults add column handled_at timestamptz;
update faults f set handled_at = now() from cards c where c.id = f.card_id and c.suspicion is null;
create function note_suspicion() returns trigger language plpgsql as $$
begin
    if new.suspicion is null then
        new.suspected_at := null;
        update faults set handled_at = now() where card_id = new.id and handled_at is null;
    elsif old.suspicion is null then
        new.suspected_at := now();
    end if;
    return new;
end $$;
create trigger cards_suspected before update of suspicion on cards for each row
    when (old.suspicion is distinct from new.suspicion) execute function note_suspicion();

-- Where a round makes its cards: slots, benches, or the service's own computer (here). Rounds of before use every slot.
alter table rounds add column slots text[] not null default '{}';

-- A device that was accepted unseen was not seen then.
update sightings set seen_at = null where address is null;
