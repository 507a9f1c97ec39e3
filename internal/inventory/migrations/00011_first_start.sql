-- +goose Up
-- Machines in whose drive what they are told at their first start still lies: few, and looked for often.
create index copies_first_start on copies (name)
	where gone_at is null and machine -> 'devices' @> '[{"file": "first-start.iso"}]';

-- +goose Down
drop index copies_first_start;
