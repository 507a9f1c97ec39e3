-- +goose Up
-- A host of another Unvora, which the pool belongs to.
alter table pool_hosts add owner text not null default '';
-- What pools say whose they are by; it stays when the authority is made anew.
alter table authority add unvora uuid not null default gen_random_uuid();

-- A lock of "for update" stops whoever refers to the row, also where nothing of its key will change.
-- +goose StatementBegin
create or replace function state_of_parent() returns trigger language plpgsql as $$
declare
    now_is text;
begin
    perform 1 from jobs where id = new.parent for no key update; -- of two children that change at once the second sees both
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

-- +goose Down
alter table pool_hosts drop owner;
alter table authority drop unvora;
-- +goose StatementBegin
create or replace function state_of_parent() returns trigger language plpgsql as $$
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
