-- +goose Up
-- What a sender says of when it was, beside when it was heard: first_at and last_at. Old rows have one for both.
alter table alert add column first_said timestamptz, add column last_said timestamptz,
  add column cleared_at timestamptz;

-- +goose Down
alter table alert drop column first_said, drop column last_said, drop column cleared_at;
