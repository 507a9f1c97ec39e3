-- +goose Up
-- What a host lets others do to its network: its ports, null when nothing.
alter table hosts add column ports jsonb, add column resting boolean not null default false;
drop index hosts_state;
create index hosts_state on hosts ((case when state = 'up' and resting then 'resting' else state end), name, id);

alter table switches add column uplink text not null default '', add column tagged boolean not null default false, add column address text not null default '';

-- A pool that rests takes nothing new; what a host says of it besides.
alter table pools add column resting boolean not null default false;
alter table pool_hosts add column max_file bigint not null default 0, add column rate bigint not null default 0, add column foreign_to text not null default '';

-- Rules that lead files to pools, in order.
create table landing_rules (
    id uuid primary key,
    position integer not null unique,
    kind text not null default '',
    over_bytes bigint not null default 0,
    host text not null default '',
    label text not null default '',
    pool text not null default '',
    keep_bytes bigint not null default 0
);

-- Addresses that a segment has to give out, those that were given, and those
-- that guests are seen to use.
alter table segments add column range_from inet, add column range_to inet;
create table given_addresses (
    segment text not null,
    address inet not null,
    copy_id uuid,
    job_id uuid not null,
    given_at timestamptz not null default now(),
    primary key (segment, address)
);
alter table copies add column addresses text[] not null default '{}';
create index copies_addresses on copies using gin (addresses) where gone_at is null;
create index copies_owner on copies (owner, host_id) where gone_at is null and owner <> '';
