-- +goose Up
-- A plan asks for all names that begin like the one that it wants to give.
create index copies_host_names on copies (host_id, lower(name) text_pattern_ops) where gone_at is null and form <> 'package';
create index copies_pool_names on copies (pool_id, lower(rel) text_pattern_ops) where gone_at is null and form <> 'package';

-- +goose Down
drop index copies_pool_names;
drop index copies_host_names;
