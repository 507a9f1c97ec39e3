-- +goose Up
-- A package may hold several machines: each is a copy of its own, at the same place.
alter table copies add number integer not null default 0; -- of a package's machine, from 0
drop index copies_shelved;
create unique index copies_shelved on copies (shelf_id, path, number) where gone_at is null and form = 'package';
drop index copies_kept;
create unique index copies_kept on copies (pool_id, rel, number) where gone_at is null and form = 'package'
    and pool_id is not null;

-- +goose Down
drop index copies_kept;
drop index copies_shelved;
delete from copies where number > 0;
create unique index copies_shelved on copies (shelf_id, path) where gone_at is null and form = 'package';
create unique index copies_kept on copies (pool_id, rel) where gone_at is null and form = 'package'
    and pool_id is not null;
alter table copies drop number;
