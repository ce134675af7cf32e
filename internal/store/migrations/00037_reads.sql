-- +goose Up
-- The account by which a target is looked at cannot write there: an administrator said so.
alter table target add column look_cannot_write boolean not null default false;

-- +goose Down
alter table target drop column look_cannot_write;
