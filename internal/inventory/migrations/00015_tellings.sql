-- +goose Up
-- Who wants to be told of jobs, and how.
create table tellings (
    id uuid primary key,
    user_name text not null,                      -- whose jobs; '' for everybody's
    added_by text not null,
    how text not null check (how in ('mail', 'call')),
    address text not null,                        -- of a mailbox, or a web address
    causes text[] not null,                       -- done, failed, held
    least_seconds integer not null default 0,     -- of a job that is done: how long it has to have taken
    sealed bytea not null default '',             -- secret that calls are signed with
    added_at timestamptz not null default now(),
    told_at timestamptz,
    error text not null default ''                -- why the last could not be told
);
create table told (
    id uuid primary key default gen_random_uuid(),
    telling_id uuid not null references tellings on delete cascade,
    job_id uuid not null references jobs on delete cascade,
    cause text not null,
    added_at timestamptz not null default now(),
    next_at timestamptz default now(),            -- when it is tried; null: it was told, or given up
    tries integer not null default 0
);
create index told_due on told (next_at) where next_at is not null;
create index told_job on told (job_id);
create index told_telling on told (telling_id);

-- +goose StatementBegin
create function tell_of_job() returns trigger language plpgsql as $$
declare
    why text := case new.state when 'done' then 'done' when 'held' then 'held' else 'failed' end;
begin
    insert into told (telling_id, job_id, cause) select t.id, new.id, why from tellings t
        where (t.user_name = '' or t.user_name = new.user_name) and why = any(t.causes)
        and (why <> 'done' or now() - coalesce(new.started_at, new.created_at) >= make_interval(secs => t.least_seconds))
        and not exists (select 1 from told b where b.job_id = new.id and b.telling_id = t.id and b.cause = why
            and b.added_at > now() - interval '1 hour'); -- it is tried again and again
    return null;
end $$;
-- +goose StatementEnd
create trigger jobs_tell after update of state on jobs for each row
    when (new.parent is null and old.state is distinct from new.state and (new.state in ('done', 'failed', 'partly')
        or new.state = 'held' and (new.parts > 0 or new.held_for <> ''))) execute function tell_of_job();

-- +goose Down
drop trigger jobs_tell on jobs;
drop function tell_of_job();
drop table told;
drop table tellings;
