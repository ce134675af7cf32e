-- +goose Up
-- A secret that was removed has no value any more, and keeps its versions: a later one of the same name goes on from
-- them, so that no approval of an old value allows a new one.
alter table secret add column removed_at timestamptz;

-- +goose Down
alter table secret drop column removed_at;
