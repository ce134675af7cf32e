-- +goose Up
-- Whoever sees the count stand still for a lease takes an instance for dead: no clock that is stepped does that. skew_ms
-- is how far the clock of its machine is off the database's.
alter table instance add column beats bigint not null default 0;
alter table instance add column skew_ms bigint not null default 0;

-- +goose Down
alter table instance drop column skew_ms;
alter table instance drop column beats;
