-- +goose Up
-- What the listeners of each machine heard since their instance began, so that all of them can be listed anywhere.
create table listener (host text not null, name text not null, address text not null, begun_at timestamptz not null,
  noted_at timestamptz not null default now(), heard bigint not null, kept bigint not null, strange bigint not null,
  stranger text not null, lost bigint not null, waiting bigint not null, primary key (host, name));

-- +goose Down
drop table listener;
