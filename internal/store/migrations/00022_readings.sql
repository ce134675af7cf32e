-- +goose Up
-- Readings outlive the runs that took them. A series is one reading of one target; target is empty for the host of the
-- service itself.
create table series (
    id bigserial primary key,
    service text not null,
    target text not null,
    name text not null,
    unit text not null default '',
    good text not null default '',
    unique (service, name, target)
);
-- span is how many seconds a row stands for, 0 for one taking. value is the last within it, low and high are its bounds;
-- all null for what is no number, which said has.
create table reading (
    series bigint not null,
    at timestamptz not null,
    span integer not null default 0,
    value double precision,
    low double precision,
    high double precision,
    said text,
    run text
);
create index reading_series on reading (series, at);
create index reading_age on reading (span, at);

-- +goose Down
drop table reading;
drop table series;
