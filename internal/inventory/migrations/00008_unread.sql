-- +goose Up
-- Pools, folders and packages that the last survey of a host could not read in time.
alter table hosts add column unread text[] not null default '{}';

-- The authority that takes the place of this one, and the one whose place it took.
alter table authority add column next_cert text, add column next_sealed bytea, add column former text not null default '';

-- A pool on a file system that keeps no owners of files.
alter table pool_hosts add column ownerless boolean not null default false;
