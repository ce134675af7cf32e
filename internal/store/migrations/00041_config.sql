-- +goose Up
-- The number rises by what nobody can foretell: what is kept read by it must not be taken for something else once a
-- database was put back and changed otherwise.
-- +goose StatementBegin
create or replace function config_changed() returns trigger language plpgsql as $$
begin
  update config set version = version + 1 + floor(random() * 1048576)::bigint;
  return null;
end $$;
-- +goose StatementEnd

-- +goose Down
-- +goose StatementBegin
create or replace function config_changed() returns trigger language plpgsql as $$
begin
  update config set version = version + 1;
  return null;
end $$;
-- +goose StatementEnd
