-- +goose Up
-- What somebody looks for again and again.
create table search (who text not null, name text not null, looks_for jsonb not null, primary key (who, name));

-- +goose Down
drop table search;
