-- +goose Up

-- Services that share the database. Each says every second that it lives; one
-- that has not said so for a while is dead, and others take up its jobs.
create table services (
    id uuid primary key,
    started_at timestamptz not null default now(),
    beat_at timestamptz not null default now()
);

alter table jobs
    add column owner uuid,                              -- service that steers it; null while it waits or is held
    add column back boolean not null default false,     -- it is being undone
    add column hold boolean not null default false,     -- to be held: asked for
    add column no_return integer,                       -- position of the step after which there is no way back
    add column held_code text not null default '',      -- why it could not go on
    add column held_for text not null default '',
    add column tries integer not null default 0,        -- of the step that it is held at
    add column retry_at timestamptz,                    -- when a held job is tried again by itself; null: when somebody says so
    add column needs_client boolean not null default false, -- it waits for the computer of the one who began it
    add column client_at timestamptz;                   -- when that computer was last heard of
update jobs set back = true where cancel or error <> '';

drop index jobs_open;
alter table jobs drop column touched_at;
create index jobs_queue on jobs (id) where state = 'waiting';
create index jobs_working on jobs (owner) where state = 'working';
create index jobs_retry on jobs (retry_at) where state = 'held' and retry_at is not null;
create index jobs_client on jobs (client_at) where state = 'working' and needs_client;

-- A session's CSRF value is made of its cookie by the key file, and kept nowhere.
alter table sessions drop column csrf;
alter table tokens add column used_at timestamptz;
-- From now on what is kept of the authority's key is sealed with the key file.
alter table authority add column sealed bytea;
alter table authority alter column key drop not null;

-- Up to where events were dropped: who asks for what came after an older one has
-- to read everything anew.
create table event_horizon (
    one boolean primary key default true check (one),
    tx xid8 not null,
    id bigint not null
);
