-- +goose Up
-- Why a copy stands as it does, where nobody asked for that: its host says so.
alter table copies add column state_why text not null default '';

-- +goose Down
alter table copies drop column state_why;
