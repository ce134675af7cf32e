-- +goose Up
alter table service add column depends_on jsonb;

-- +goose Down
alter table service drop column depends_on;
