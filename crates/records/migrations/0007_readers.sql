-- Slots are places in readers, and can be bound to others: a job says in which reader and place its card
-- was. Imprints and backups say it by their job.
alter table jobs
    -- Which bench; empty is that of the service's own computer.
    add column bench text not null default '',
    -- The port that the reader hung at, or its own name.
    add column reader text,
    add column unit integer;
update jobs set reader = 'stand-in', unit = slot where slot is not null;

-- Insertions are counted anew by each start of a computer.
alter table backups add column boot text not null default '';
