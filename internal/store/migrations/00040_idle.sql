-- +goose Up
-- A start that waits for its hours works on nothing until then: whoever is needed still is.
alter table starting add column idle boolean not null default false;

-- +goose Down
alter table starting drop column idle;
