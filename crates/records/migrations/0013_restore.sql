-- What a card must hold for a backup as it is, and what was noteworthy about the card when it was read. The
-- smallest card is the one that holds it once its last file system is shrunk.
alter table backups add column whole_card bigint;
update backups set whole_card = smallest_card;
alter table backups alter column whole_card set not null;
alter table backups add column remarks jsonb not null default '[]';
