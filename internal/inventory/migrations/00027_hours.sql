-- +goose Up
-- Times of the day at which transfers are slower, each as it is written: mon-fri 08:00-18:00=20MiB.
alter table limits add hours text[] not null default '{}';

-- +goose Down
alter table limits drop hours;
