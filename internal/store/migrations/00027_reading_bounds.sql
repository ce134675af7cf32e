-- +goose Up
-- A chart wants the bounds of many stretches: with them in the index, the rows of what is old need not be read.
create index reading_bounds on reading (series, at) include (value, low, high);
drop index reading_series;

-- +goose Down
create index reading_series on reading (series, at);
drop index reading_bounds;
