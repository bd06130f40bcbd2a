-- A device that was updated in place runs another release than its card was written with. Known from the version
-- that it says of itself; forgotten when its card is another one, or written anew.
alter table devices add column runs_release_id bigint;
create function forget_what_ran() returns trigger language plpgsql as $$
begin
    new.runs_release_id := null;
    return new;
end $$;
create trigger devices_run before update of imprint_id on devices for each row
    when (old.imprint_id is distinct from new.imprint_id) execute function forget_what_ran();

-- A picture of a device and its label, sealed: stickers tell more than a name.
create table device_photos (
    device_id bigint primary key references devices on delete cascade,
    kind text not null,
    sealed bytea not null,
    bytes bigint not null,
    taken_by text not null,
    taken_at timestamptz not null default now()
);
