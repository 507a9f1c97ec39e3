-- +goose Up
-- Command that takes back what a job did, so that a page of history reads no plans, which may be long.
alter table jobs add taken_back_by text not null default '';

-- +goose Down
alter table jobs drop column taken_back_by;
