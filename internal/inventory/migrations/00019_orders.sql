-- +goose Up
create index copies_made on copies (made_at, id) where gone_at is null;
create index copies_size on copies (size_bytes, id) where gone_at is null;

-- +goose Down
drop index copies_made;
drop index copies_size;
