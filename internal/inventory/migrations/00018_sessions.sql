-- +goose Up
-- What a session is told by, to whoever has it.
alter table sessions add id uuid not null unique default gen_random_uuid(),
    add place text not null default '', -- address that signed in
    add browser text not null default ''; -- what it calls itself

-- +goose Down
alter table sessions drop column id, drop column place, drop column browser;
