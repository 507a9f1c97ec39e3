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
