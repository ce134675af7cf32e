-- +goose Up
-- Standing looks: when each is due, and how the last taking went. busy_until keeps one from being taken twice at once.
create table standing (
    watch text primary key,
    service text not null,
    number integer not null,              -- the revision of its document
    every interval not null,
    due_at timestamptz not null default now(),
    busy_until timestamptz,
    taken_at timestamptz,
    asked integer not null default 0,
    answered integer not null default 0,
    took interval not null default '0',
    trouble text not null default ''
);
create index standing_due on standing (due_at);

-- +goose Down
drop table standing;
