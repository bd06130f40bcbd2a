-- What a card is searched by, in small letters: put together when it is changed, not for every card at every search.
alter table cards add column words text not null default '';
create function keep_card_words() returns trigger language plpgsql as $$
begin
    -- The label is made of the number, and is not there yet.
    new.words := lower(concat_ws(' ', 'C-' || lpad(new.id::text, greatest(4, length(new.id::text)), '0'),
        new.notes, new.brand, new.seller, new.batch));
    return new;
end $$;
create trigger words before insert or update of notes, brand, seller, batch on cards
    for each row execute function keep_card_words();
update cards set notes = notes;
