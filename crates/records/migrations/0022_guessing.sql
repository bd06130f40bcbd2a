-- Tries are counted before a password is looked at: under the person and the place that the try comes from, under the place,
-- and under the person over all places that were never theirs. Names of any length are no keys.
drop table tries;
create table tries (
    key text primary key check (length(key) <= 200),
    wrong int not null,
    last_at timestamptz not null,
    -- When it is forgotten.
    until timestamptz not null
);
create index tries_until on tries (until);

-- When the password was said for a pass; none for tokens and stations, which open no further ones.
alter table passes add column password_at timestamptz;
update passes set password_at = made_at where kind = 'session';

-- Codes that stand for a second factor that was lost, each good once.
create table recovery_codes (
    digest bytea primary key,
    person_id bigint not null references people (id),
    used_at timestamptz
);
create index recovery_codes_person on recovery_codes (person_id);
