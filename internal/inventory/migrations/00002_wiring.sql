-- +goose Up
-- Rules that lead networks to segments and segments to switches, in order.
create table wiring_rules (
    id uuid primary key,
    position integer not null,
    network text not null default '',
    vlan integer not null default 0 check (vlan between 0 and 4094),
    segment text not null default '',
    host text not null default '',
    switch text not null default ''
);
create unique index wiring_rules_position on wiring_rules (position);

-- What is known of a segment beyond its name.
create table segments (
    name text primary key,
    subnet cidr
);

-- Facets of a lineage's identity to which something is bound.
create table marks (
    lineage_id uuid not null references lineages on delete cascade,
    facet text not null,
    kind text not null check (kind in ('licence', 'reservation')),
    who text not null,
    at timestamptz not null default now(),
    primary key (lineage_id, facet)
);

-- Disks and media that no machine names, taken into the inventory.
create table loose_disks (
    id uuid primary key,
    host_id uuid not null references hosts on delete cascade,
    pool_id uuid references pools on delete set null,
    name text not null,
    path text not null,
    kind text not null check (kind in ('disk', 'media')),
    format text not null,
    disk_id text not null default '',
    virtual_bytes bigint not null,
    file_bytes bigint not null,
    system text not null default '', -- what was found on it
    adopted_by text not null,
    adopted_at timestamptz not null default now(),
    unique (host_id, path)
);
create index loose_disks_page on loose_disks (name, id);
create index copies_static on copies using gin ((machine -> 'static')) where gone_at is null;

-- A job may be about several machines, one after the other.
alter table steps add column part integer not null default 0;

-- What a host states of itself beyond its family, the protocol that its agent
-- speaks, and by how many seconds its clock is off.
alter table hosts add column abilities jsonb not null default '{}', add column protocol integer not null default 0, add column clock_off bigint not null default 0;
