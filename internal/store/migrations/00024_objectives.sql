-- +goose Up
-- Objectives: until when each is measured, and since when.
create table objective (
    name text primary key,
    service text not null,
    number integer not null,              -- the revision of its document
    began_at timestamptz not null default date_trunc('minute', now()),
    measured_until timestamptz not null default date_trunc('minute', now()),
    unknown text not null default ''      -- why the last minute is not known
);
-- What each minute that is known came to, and hours once they are old; at is the beginning.
create table indicator (
    objective text not null,
    at timestamptz not null,
    span integer not null,                -- seconds that are known in it
    good double precision not null,
    bad double precision not null,
    primary key (objective, at)
);
-- What was set is drawn over readings.
create index act_at on act (at);
-- A runbook that only looks, for alerts that start nothing.
alter table service add column first_look text not null default '';

-- +goose Down
alter table service drop column first_look;
drop index act_at;
drop table indicator;
drop table objective;
