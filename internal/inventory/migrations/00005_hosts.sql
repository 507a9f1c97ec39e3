-- +goose Up
-- What a host had before it was wiped, until it has it again.
alter table hosts add column had jsonb;

-- What was noticed at a host, by itself or by a survey, until somebody who asks
-- for a survey has been told.
create table noticed (
    id bigint generated always as identity primary key,
    host_id uuid not null references hosts on delete cascade,
    at timestamptz not null default now(),
    what text not null,
    form text not null,
    name text not null,
    text text not null
);
create index noticed_host on noticed (host_id, id);

-- A copy that is gone may have been on a host that is gone too.
alter table copies drop constraint copies_check;
alter table copies add constraint copies_on_host check (form = 'package' or host_id is not null or gone_at is not null);
