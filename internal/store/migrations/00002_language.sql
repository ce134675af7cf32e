-- +goose Up
alter table instance add column boot text not null default '', add column begun_ticks bigint not null default 0,
  add column reported_at timestamptz, add column gone_at timestamptz, add column gone_by text not null default '';
alter table target add column known jsonb, add column look_account text not null default '', add column look_secret text not null default '';
alter table question add column title text not null default '';
alter table run add column rules int not null default 1, add column awaits text not null default '', add column again_of text not null default '', add column alert text not null default '';
create index run_alert on run (alert) where ended_at is null and alert <> '';

-- What runs hold for themselves until they end, and who waits for it, the first first.
create table hold (key text not null, run text not null, shared boolean not null default false, at timestamptz not null default now(), primary key (key, run));
create index on hold (run);
create table awaiting (key text not null, run text not null, since timestamptz not null default now(), primary key (key, run));
create index on awaiting (run);

-- +goose Down
drop table awaiting, hold;
alter table question drop column title;
alter table run drop column rules, drop column awaits, drop column again_of, drop column alert;
alter table target drop column known, drop column look_account, drop column look_secret;
alter table instance drop column boot, drop column begun_ticks, drop column reported_at, drop column gone_at, drop column gone_by;
