-- +goose Up
-- What came to a door under an identity that its sender gave: digest is of what came, answer what was said to it; null
-- where it is being done, or whoever did it died.
create table heard_id (door text not null, id text not null, digest text not null default '', answer text,
  at timestamptz not null default now(), primary key (door, id));
insert into heard_id (door, id, answer, at) select connection, id, '', at from heard_back;
drop table heard_back;

-- +goose Down
create table heard_back (connection text not null, id text not null, at timestamptz not null default now(),
  primary key (connection, id));
insert into heard_back select door, id, at from heard_id;
drop table heard_id;
