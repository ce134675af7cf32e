-- +goose Up
-- Rooms become documents, as everything else that is configured.
insert into push (by, message, commit, origin) select 'urgentis', 'connections became documents', '', ''
  where exists (select from connection);
insert into document_revision (kind, name, number, digest, text, push, pushed_by)
  select 'connection', name, 1, encode(sha256(convert_to(says, 'UTF8')), 'hex'), says, (select max(id) from push), 'urgentis'
  from (select name, 'urgentis: connection/1' || chr(10) || 'name: ' || name || chr(10) || 'kind: room' || chr(10) ||
    'url: ' || to_json(url)::text || chr(10) as says from connection) x;
insert into document (kind, name, number, origin) select 'connection', name, 1, '' from connection;
drop table connection;

-- How people can be reached, in the order in which they want to be. A way counts once it is proven by a code.
create table way (
    id bigserial primary key,
    person text not null references person (name) on delete cascade,
    place integer not null,
    connection text not null,
    address text not null,
    proven_at timestamptz,
    code_hash bytea,
    code_ends_at timestamptz,
    code_tries integer not null default 0,
    added_at timestamptz not null default now(),
    unique (person, connection, address)
);
alter table person add column quiet text not null default '', add column quiet_zone text not null default '';
create trigger config_changed after insert or update or delete or truncate on way for each statement
  execute function config_changed();
create trigger config_changed after insert or update or delete or truncate on stand_in for each statement
  execute function config_changed();

-- What people are told. look_at is when it is looked who is to be told, null: never again.
create table notice (
    id bigserial primary key,
    key text not null unique,
    kind text not null,
    asked text not null default '',
    urgent boolean not null default false,
    text text not null,
    thing text not null default '',
    link text not null default '',
    incident bigint,
    at timestamptz not null,
    state text not null default 'open',
    rung integer not null default 0,
    rung_since timestamptz,
    look_at timestamptz,
    missed text not null default '',
    taken_by text not null default '',
    taken_at timestamptz
);
create index notice_due on notice (look_at) where look_at is not null;
create index notice_incident on notice (incident, id);

alter table delivery add column receiver text not null default '', add column at_address text not null default '',
  add column urgent boolean not null default false, add column answer text not null default '';
create index delivery_incident on delivery (incident, id);

-- Which messages carried a notice, to whom.
create table notice_told (
    notice bigint not null references notice (id) on delete cascade,
    delivery bigint not null references delivery (id) on delete cascade,
    rung integer not null,
    primary key (notice, delivery)
);
create index notice_told_delivery on notice_told (delivery);

-- Links that were sent to single people. They open a page, and let its reader act once.
create table link (
    hash bytea primary key,
    person text not null references person (name) on delete cascade,
    delivery bigint not null references delivery (id) on delete cascade,
    refers text not null,
    digest text not null,
    ends_at timestamptz not null,
    used_at timestamptz,
    used_for text not null default ''
);
create index link_delivery on link (delivery);

-- Call-backs that were heard, so that none counts twice.
create table heard_back (
    connection text not null,
    id text not null,
    at timestamptz not null default now(),
    primary key (connection, id)
);

-- The tickets of incidents at the desks.
create table ticket (
    incident bigint not null references incident (number) on delete cascade,
    connection text not null,
    number text not null default '',
    link text not null default '',
    state text not null default 'wanted',
    copied bigint not null default 0,
    shown text not null default '',
    opened_at timestamptz not null default now(),
    primary key (incident, connection)
);
create index ticket_number on ticket (connection, number);

-- +goose Down
drop table ticket;
drop table heard_back;
drop table link;
drop table notice_told;
drop index delivery_incident;
alter table delivery drop column receiver, drop column at_address, drop column urgent, drop column answer;
drop table notice;
drop trigger config_changed on stand_in;
alter table person drop column quiet, drop column quiet_zone;
drop table way;
create table connection (name text primary key, kind text not null, url text not null);
create trigger config_changed after insert or update or delete or truncate on connection for each statement
  execute function config_changed();
