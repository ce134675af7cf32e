-- +goose Up
-- How far what listeners heard is taken out of a spool on some instance's disk: written with what is taken, so that it
-- is taken once. at is when that was last.
create table spool_place (spool text primary key, source text not null, file bigint not null, "offset" bigint not null,
  at timestamptz not null default now());
create index on spool_place (at);

-- +goose Down
drop table spool_place;
