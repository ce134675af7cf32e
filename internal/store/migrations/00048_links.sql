-- +goose Up
-- Pages outside that tell more of a service.
alter table service add column links jsonb;

-- +goose Down
alter table service drop column links;
