-- +goose Up
-- Starts that wait whether their alert stays so.
create table starting (alert text not null, runbook text not null, start text not null, due timestamptz not null, primary key (alert, runbook, start));
create index on starting (due);
-- When starts that are bounded in number came about.
create table started (runbook text not null, start text not null, at timestamptz not null default now());
create index on started (runbook, start, at);
create index on started (at);

-- +goose Down
drop table starting, started;
