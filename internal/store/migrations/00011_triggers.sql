-- +goose Up
-- Documents of every kind are part of the configuration that instances keep read.
create trigger config_changed after insert or update or delete or truncate on document for each statement
  execute function config_changed();
-- A trigger that a person switched off, without losing it.
create table switched_off (runbook text not null, start text not null, by text not null, because text not null,
  at timestamptz not null default now(), primary key (runbook, start));
create trigger config_changed after insert or update or delete or truncate on switched_off for each statement
  execute function config_changed();
-- Each time a trigger fired or was held back, and what came of it.
create table firing (id bigserial primary key, runbook text not null, start text not null,
  at timestamptz not null default now(), alert text not null default '', incident bigint, run text not null default '',
  result text not null, why text not null default '', payload text not null default '', once text not null default '');
create index firing_start on firing (runbook, start, id desc);
create index firing_alert on firing (alert) where alert <> '';
create index firing_at on firing (at);
create index firing_once on firing (incident, once) where once <> '';
-- Occasions that are counted until there are enough of them.
create table occasion (runbook text not null, start text not null, at timestamptz not null, times bigint not null);
create index occasion_start on occasion (runbook, start, at);
-- When each schedule is due next. spec is what that was computed from.
create table due (runbook text not null, start text not null, spec text not null, next_at timestamptz not null,
  last_at timestamptz, primary key (runbook, start));
create index due_at on due (next_at);
-- Keys of start addresses.
create table start_key (id text primary key, runbook text not null, start text not null, hash bytea not null,
  added_by text not null, added_at timestamptz not null default now(), ends_at timestamptz not null,
  last_used_at timestamptz, warned_at timestamptz);
create unique index start_key_hash on start_key (hash);
-- Values that were seen in alerts, for whoever writes a condition.
create table seen (field text not null, value text not null, at timestamptz not null default now(),
  primary key (field, value));

-- +goose Down
drop table seen, start_key, due, occasion, firing, switched_off;
drop trigger config_changed on document;
