-- What a release that was taken away held: it stays in the vault until the records are kept without it.
alter table vault_removed add column manifest bytea;
