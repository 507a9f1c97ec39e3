-- +goose Up
-- How many transfers read or write one pool at once; a share is one pool to all hosts that see it.
alter table limits add per_pool integer not null default 4 check (per_pool between 1 and 100);
alter table steps add pools text[] not null default '{}'; -- of all transfers of the job, each with "pool:" before its id

-- +goose Down
alter table steps drop pools;
alter table limits drop per_pool;
