-- +goose Up
-- Pools that are nearly full, and machines that stand on snapshots: few, and looked for often.
create index pools_filling on pools (name) where free_bytes < total_bytes / 20;
create index copies_on_snapshots on copies (name) where gone_at is null and machine ? 'tree';

-- +goose Down
drop index copies_on_snapshots;
drop index pools_filling;
