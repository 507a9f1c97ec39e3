-- +goose Up
-- Packages in pools: one at a place.
create unique index copies_kept on copies (pool_id, rel) where gone_at is null and form = 'package'
    and pool_id is not null;

-- +goose Down
drop index copies_kept;
