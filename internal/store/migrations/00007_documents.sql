-- +goose Up
-- What people configure, as documents. Runbooks keep their own tables; all others are here. A push is one act of one
-- person about any number of documents; number 0 is a document that was removed and whose revisions stay.
create table push (id bigint generated always as identity primary key, by text not null, message text not null,
  commit text not null, origin text not null, at timestamptz not null default now());
create table document (kind text not null, name text not null, number int not null, origin text not null,
  primary key (kind, name));
create table document_revision (kind text not null, name text not null, number int not null, digest text not null,
  text text not null, push bigint not null references push, pushed_by text not null,
  pushed_at timestamptz not null default now(), primary key (kind, name, number));
alter table runbook add column origin text not null default '';

-- The text of a source's document, beside its token, so that a report is taken with one read.
alter table source add column says text not null default '';

-- Sources that are there already get the document that they would have.
insert into push (by, message, commit, origin) select 'urgentis', 'sources became documents', '', ''
  where exists (select from source);
update source set says = 'urgentis: source/1' || chr(10) || 'name: ' || name || chr(10);
insert into document_revision (kind, name, number, digest, text, push, pushed_by)
  select 'source', name, 1, encode(sha256(convert_to(says, 'UTF8')), 'hex'), says, (select max(id) from push), 'urgentis'
  from source;
insert into document (kind, name, number, origin) select 'source', name, 1, '' from source;

-- What proved itself and could not be mapped: it is kept with why, and read again when the map is mended.
create table unread (id text primary key, source text not null, at timestamptz not null default now(),
  finding text not null, items jsonb not null, content_type text not null, headers jsonb not null, query jsonb not null,
  body bytea not null, read_at timestamptz, read_by text not null default '');
create index unread_open on unread (source, at) where read_at is null;

-- +goose Down
drop table unread;
alter table source drop column says;
alter table runbook drop column origin;
drop table document_revision;
drop table document;
drop table push;
