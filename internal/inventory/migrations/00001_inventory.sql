-- +goose Up
create extension if not exists pg_trgm;

-- The certificate authority that service and agents trust.
create table authority (
    one boolean primary key default true check (one),
    cert text not null,
    key text not null
);

create table users (
    id uuid primary key,
    name text not null check (name <> ''),
    password_hash text not null,
    role text not null check (role in ('administrator', 'operator', 'viewer')),
    created_at timestamptz not null default now()
);
create unique index users_name on users (lower(name));

-- Tokens and console sessions are kept as SHA-256 of what the bearer holds.
create table tokens (
    hash bytea primary key,
    id uuid not null unique,
    user_id uuid not null references users on delete cascade,
    name text not null,
    created_at timestamptz not null default now(),
    expires_at timestamptz
);
create index tokens_user on tokens (user_id);

create table sessions (
    hash bytea primary key,
    user_id uuid not null references users on delete cascade,
    csrf text not null,
    created_at timestamptz not null default now(),
    expires_at timestamptz not null
);
create index sessions_expiry on sessions (expires_at);

-- A site has a range of MACs to give out: its first three octets.
create table sites (
    name text primary key,
    mac_prefix text not null unique check (mac_prefix ~ '^[0-9a-f][26ae](:[0-9a-f]{2}){2}$'),
    next_mac bigint not null default 1 check (next_mac between 0 and 16777216)
);

create table hosts (
    id uuid primary key,
    name text not null check (name <> '' and name !~ '[/\s]'),
    family text not null,
    driver text not null,
    site text not null references sites,
    address text not null,
    state text not null check (state in ('up', 'resting', 'unreachable')),
    cpus integer not null,
    memory_bytes bigint not null,
    revision text not null default '',
    last_seen timestamptz,
    added_at timestamptz not null default now()
);
create unique index hosts_name on hosts (lower(name));
create index hosts_page on hosts (name, id);
create index hosts_name_like on hosts using gin (name gin_trgm_ops);
create index hosts_site on hosts (site, name, id);
create index hosts_state on hosts (state, name, id);
create index hosts_family on hosts (family, name, id);

create table pools (
    id uuid primary key,
    name text not null,
    labels text[] not null default '{}',
    total_bytes bigint not null default 0,
    free_bytes bigint not null default 0
);
create index pools_page on pools (name, id);

-- A share that several hosts see is one pool with several rows here.
create table pool_hosts (
    pool_id uuid not null references pools on delete cascade,
    host_id uuid not null references hosts on delete cascade,
    position integer not null, -- in the host's own order
    path text not null,
    state text not null check (state in ('ready', 'resting', 'read-only', 'away', 'free')),
    removable boolean not null,
    primary key (pool_id, host_id)
);
create index pool_hosts_host on pool_hosts (host_id, position);

create table switches (
    host_id uuid not null references hosts on delete cascade,
    name text not null,
    segment text not null,
    vlan integer not null check (vlan between 0 and 4094),
    primary key (host_id, name)
);

create table shelves (
    id uuid primary key,
    name text not null,
    host_id uuid not null references hosts on delete cascade,
    path text not null,
    free_bytes bigint not null default 0,
    unique (host_id, path)
);
create unique index shelves_name on shelves (lower(name));

create table lineages (
    id uuid primary key,
    name text not null,
    created_at timestamptz not null default now()
);
create index lineages_page on lineages (name, id);
create index lineages_name_like on lineages using gin (name gin_trgm_ops);

create table copies (
    id uuid primary key,
    lineage_id uuid not null references lineages,
    name text not null check (name <> ''),
    form text not null check (form in ('registered', 'stray', 'hollow', 'package')),
    host_id uuid references hosts,   -- none for a package on somebody's computer
    pool_id uuid references pools,
    shelf_id uuid references shelves,
    path text not null,              -- of folder or package, as on the host
    rel text not null default '',    -- of a folder within its pool, the same on every host that sees it
    uuid uuid,
    state text not null check (state in ('running', 'stopped', 'paused', 'suspended', 'unknown', 'away')),
    parent_id uuid references copies,
    made_by text not null,           -- operation, or survey for one that was found
    made_user text not null default '',
    made_at timestamptz not null,
    identity text not null default 'original' check (identity in ('original', 'keep', 'renew')),
    renewed text[] not null default '{}',
    last_seen timestamptz not null,
    gone_at timestamptz,             -- set when it was no longer where it had been
    tracked boolean not null default true,
    owner text not null default '',
    size_bytes bigint not null default 0,
    machine jsonb not null,
    check (form = 'package' or host_id is not null)
);
create index copies_page on copies (name, id) where gone_at is null;
create index copies_host on copies (host_id, name, id);
create index copies_lineage on copies (lineage_id, made_at, id);
create index copies_uuid on copies (uuid);
create index copies_parent on copies (parent_id);
create index copies_form on copies (form, name, id) where gone_at is null;
create index copies_state on copies (state, name, id) where gone_at is null;
create index copies_name_like on copies using gin (name gin_trgm_ops);
create unique index copies_place on copies (pool_id, rel) where gone_at is null and form <> 'package';
create unique index copies_shelved on copies (shelf_id, path) where gone_at is null and form = 'package';

-- MACs as they are seen, twins and all.
create table nics (
    copy_id uuid not null references copies on delete cascade,
    position integer not null,
    mac macaddr not null,
    primary key (copy_id, position)
);
create index nics_mac on nics (mac);

-- What was given out, by constraint only once.
create table given_macs (
    mac macaddr primary key,
    job_id uuid not null,
    given_at timestamptz not null default now()
);
create table given_uuids (
    uuid uuid primary key,
    job_id uuid not null,
    given_at timestamptz not null default now()
);

create table jobs (
    id uuid primary key,
    operation text not null,
    subject text not null,
    state text not null check (state in ('waiting', 'working', 'held', 'done', 'failed', 'cancelled')),
    cancel boolean not null default false, -- asked for
    epoch bigint not null default 1,       -- of the newest owner
    touched_at timestamptz not null default now(), -- by its owner; an old one means that the owner is gone
    plan jsonb not null,
    new_copy uuid,
    user_name text not null,
    note text not null default '',
    idempotency_key text,
    error_code text not null default '',
    error text not null default '',
    created_at timestamptz not null default now(),
    started_at timestamptz,
    finished_at timestamptz
);
create index jobs_page on jobs (created_at desc, id desc);
create index jobs_state on jobs (state, created_at desc, id desc);
create index jobs_open on jobs (touched_at) where state in ('waiting', 'working');
create unique index jobs_idempotency on jobs (user_name, idempotency_key) where idempotency_key is not null;

create table steps (
    job_id uuid not null references jobs on delete cascade,
    position integer not null,
    id text not null,
    kind text not null,
    what text not null,
    host_id uuid references hosts,
    host text not null default '',
    bytes bigint not null default 0,
    done bigint not null default 0,
    state text not null default 'waiting' check (state in ('waiting', 'working', 'done', 'failed', 'undone')),
    do_what jsonb not null,
    result jsonb,
    started_at timestamptz,
    finished_at timestamptz,
    primary key (job_id, position)
);
create index steps_host on steps (host_id) where host_id is not null;

-- What a job at work holds for itself: copies, folders that it will make.
create table holds (
    key text primary key,
    job_id uuid not null references jobs on delete cascade
);
create index holds_job on holds (job_id);

-- Events are read in the order of (tx, id) and only below the oldest running
-- transaction, so that nothing appears before a place that was read already.
create table events (
    id bigint generated always as identity primary key,
    tx xid8 not null default pg_current_xact_id(),
    at timestamptz not null default now(),
    kind text not null,
    subject text not null,
    data jsonb not null
);
create index events_order on events (tx, id);
create index events_at on events (at);

create table audit (
    id uuid primary key,
    at timestamptz not null default now(),
    who text not null,
    what text not null,
    subject text not null,
    copy_id uuid,
    lineage_id uuid,
    why text not null default '',
    detail jsonb not null default '{}'
);
create index audit_page on audit (at desc, id desc);
create index audit_lineage on audit (lineage_id, at desc, id desc);
create index audit_copy on audit (copy_id, at desc, id desc);

-- +goose StatementBegin
create function wake_event_readers() returns trigger language plpgsql as $$
begin
    notify events;
    return null;
end $$;
-- +goose StatementEnd
create trigger events_wake after insert on events for each statement execute function wake_event_readers();
