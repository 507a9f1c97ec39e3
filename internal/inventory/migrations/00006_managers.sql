-- +goose Up
-- Other management servers: foreign ones that speak CIMI, and other Unvoras.
create table managers (
    id uuid primary key,
    name text not null check (name <> '' and name !~ '[/@\s]'),
    kind text not null check (kind in ('cimi', 'unvora')),
    address text not null,
    account text not null default '',
    sealed bytea,                          -- its password or token
    certificate text not null default '',  -- PEM; '' for those that the system trusts
    version text not null default '',
    state text not null default 'up' check (state in ('up', 'unreachable')),
    problem text not null default '',      -- why it could not be surveyed
    last_seen timestamptz,
    added_at timestamptz not null default now(),
    lets_take boolean not null default true, -- an Unvora: whether it lets us take what it lets us see
    grants jsonb not null default '{}'     -- of an Unvora: what it may see and take here
);
create unique index managers_name on managers (lower(name));
create unique index managers_address on managers (lower(address)); -- seen twice, its machines would be taken for copies

-- A manager's hosts are reached through it alone.
alter table hosts add column manager_id uuid references managers on delete cascade;
alter table hosts alter column site drop not null;
create index hosts_manager on hosts (manager_id) where manager_id is not null;
create index hosts_own on hosts (name, id) where manager_id is null;

-- Disks that were fetched ahead of a machine.
create table ahead (
    copy_id uuid not null references copies on delete cascade,  -- at the manager
    disk text not null,
    host_id uuid not null references hosts on delete cascade,   -- that has it
    pool_id uuid not null references pools on delete cascade,
    path text not null,
    image text not null,   -- at the manager, to tell later changes from
    at timestamptz not null,
    primary key (copy_id, disk)
);

-- How far another Unvora is that reads a copy from here, as it tells.
create table lent (
    job_id uuid primary key references jobs on delete cascade,
    manager_id uuid not null references managers on delete cascade,
    theirs text not null, -- id of the job there
    state text not null default 'working' check (state in ('working', 'done', 'failed')),
    done bigint not null default 0,
    error text not null default '',
    at timestamptz not null default now(),
    unique (manager_id, theirs)
);

-- Codes that were given out for another Unvora to be paired, once each.
create table pairings (
    secret bytea primary key, -- SHA-256 of it
    expires timestamptz not null
);
