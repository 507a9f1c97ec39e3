-- +goose Up
-- When somebody has a move that was copied ahead cut over; it counts instead of what its plan says.
alter table jobs add cut_over_at timestamptz;

-- +goose Down
alter table jobs drop cut_over_at;
