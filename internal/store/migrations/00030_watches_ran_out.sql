-- +goose Up
-- How often in a row the evaluation of what a watch read needed more than it may: it is taken rarer until it does not.
alter table standing add column ran_out integer not null default 0;

-- +goose Down
alter table standing drop column ran_out;
