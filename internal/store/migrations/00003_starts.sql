-- +goose Up
-- Starts that wait whether their alert stays so.
create table starting (alert text not null, runbook text not null, start text not null, due timestamptz not null, primary key (alert, runbook, start));
create index on starting (due);
-- When starts that are bounded in number came about.
create table started (runbook text not null, start text not null, at timestamptz not null default now());
create index on started (runbook, start, at);
create index on started (at);

-- What a run has open is closed with it.
create index gate_run on gate (run) where state = 'open';
create index question_run on question (run) where state = 'open';

-- A number that rises with every change of what intake and runs read over and over, so that it can be kept read.
create table config (one boolean primary key default true check (one), version bigint not null default 0);
insert into config default values;
-- +goose StatementBegin
create function config_changed() returns trigger language plpgsql as $$
begin
  update config set version = version + 1;
  return null;
end $$;
-- +goose StatementEnd
create trigger config_changed after insert or update or delete or truncate on runbook for each statement execute function config_changed();
create trigger config_changed after insert or update or delete or truncate on connection for each statement execute function config_changed();
create trigger config_changed after insert or update or delete or truncate on service for each statement execute function config_changed();
create trigger config_changed after insert or update or delete or truncate on target for each statement execute function config_changed();

-- +goose Down
drop trigger config_changed on runbook;
drop trigger config_changed on connection;
drop trigger config_changed on service;
drop trigger config_changed on target;
drop function config_changed;
drop table config;
drop index gate_run, question_run;
drop table starting, started;
