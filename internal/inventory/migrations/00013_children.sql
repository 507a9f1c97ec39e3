-- +goose Up
-- A job over several machines has a child for each, which is a job like others. The parent itself is never steered: its
-- state is that of its children.
alter table jobs drop constraint jobs_state_check;
alter table jobs add constraint jobs_state_check
    check (state in ('waiting', 'working', 'held', 'done', 'partly', 'failed', 'cancelled'));
alter table jobs
    add parent uuid references jobs on delete cascade,
    add nth integer not null default 0,             -- among the children
    add parts integer not null default 0,           -- children that it was made with
    add given_up boolean not null default false,    -- another child does its work anew
    add start_at timestamptz,                       -- it begins no sooner
    add rate bigint not null default 0 check (rate >= 0), -- bytes per second of each transfer; 0 for no limit
    add waits_for text not null default '';         -- what its next step waits for
alter table steps
    add uses text[],                                -- hosts, and a pair of hosts, of a transfer
    add claimed boolean not null default false;     -- there is room for the transfer, and it is this one's
create index steps_transfers on steps (job_id) where state in ('waiting', 'working') and uses is not null;
-- How many transfers run at once: at a host, and between two hosts.
create table limits (
    one boolean primary key default true check (one),
    per_host integer not null default 2 check (per_host between 1 and 100),
    per_link integer not null default 2 check (per_link between 1 and 100)
);
insert into limits default values;
create index jobs_children on jobs (parent, nth) where parent is not null;

-- +goose StatementBegin
create function state_of_parent() returns trigger language plpgsql as $$
declare
    now_is text;
begin
    perform 1 from jobs where id = new.parent for update; -- of two children that change at once the second sees both
    select case
        when bool_or(state = 'working') or bool_or(state = 'waiting')
            and bool_or(state in ('done', 'failed', 'cancelled')) then 'working'
        when bool_or(state = 'waiting') then 'waiting'
        when bool_or(state = 'held') then 'held'
        when bool_and(state = 'done') then 'done'
        when bool_or(state = 'done') then 'partly'
        when bool_or(state = 'failed') then 'failed'
        else 'cancelled' end
        into now_is from jobs where parent = new.parent and not given_up;
    update jobs set state = now_is,
        started_at = coalesce(started_at, case when now_is <> 'waiting' then now() end),
        finished_at = case when now_is in ('done', 'partly', 'failed', 'cancelled') then now() end
        where id = new.parent;
    return null;
end $$;
-- +goose StatementEnd
create trigger jobs_parent after insert or update of state, given_up on jobs
    for each row when (new.parent is not null) execute function state_of_parent();

-- +goose Down
drop trigger jobs_parent on jobs;
drop function state_of_parent();
delete from jobs where parts > 0;
drop table limits;
drop index jobs_children;
drop index steps_transfers;
alter table steps drop uses, drop claimed;
alter table jobs drop parent, drop nth, drop parts, drop given_up, drop start_at,
    drop waits_for, drop rate;
alter table jobs drop constraint jobs_state_check;
alter table jobs add constraint jobs_state_check
    check (state in ('waiting', 'working', 'held', 'done', 'failed', 'cancelled'));
