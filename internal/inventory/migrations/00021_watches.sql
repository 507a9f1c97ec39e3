-- +goose Up
-- Hosts are watched in shares, each by the service that has it on lease.
create table watch_shares (
    n smallint primary key check (n between 0 and 63),
    service uuid,
    until timestamptz not null default '-infinity'
);
insert into watch_shares (n) select generate_series(0, 63);
alter table hosts add share smallint not null generated always as (get_byte(uuid_send(id), 15) & 63) stored;
-- How often jobs have changed what is known of it: what it told before that may be over.
alter table hosts add column turn bigint not null default 0;
create index hosts_share on hosts (share, added_at) where manager_id is null;

-- +goose Down
drop index hosts_share;
alter table hosts drop share, drop turn;
drop table watch_shares;
