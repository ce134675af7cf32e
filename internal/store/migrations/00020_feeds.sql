-- +goose Up
-- What the calendars said from which lines of rotas are read, and how the last try went.
create table rota_feed (
    team text not null,
    line integer not null,
    address text not null,              -- as its document names it
    text text not null default '',
    read_at timestamptz,
    tried_at timestamptz not null default now(),
    trouble text not null default '',
    primary key (team, line)
);
create trigger config_changed after update of text on rota_feed for each statement execute function config_changed();
-- Stand-ins that were entered together, and are taken back together.
alter table stand_in add column swap text not null default '';

-- +goose Down
alter table stand_in drop column swap;
drop table rota_feed;
