-- +goose Up
-- By what alerts join an incident, and until when another one may. title_by and severity_by are who set them by hand;
-- holder is who looks after it. merged_into is the incident that took its alerts over.
alter table incident add column join_key text not null default '', add column join_until timestamptz,
  add column title_by text not null default '', add column severity_by text not null default '',
  add column holder text not null default '', add column held_at timestamptz,
  add column merged_into bigint references incident, add column alerts bigint not null default 0,
  add column notes text not null default '';
create index incident_join on incident (join_key, number desc) where join_key <> '';
create index incident_holder on incident (holder, number desc) where holder <> '';
create index incident_service on incident (service, number desc);
create index incident_severity on incident (severity, number desc);
create index incident_opened on incident (opened_at);
-- What is searched: the title, how it ended, what its alerts said and what people wrote.
alter table incident add column words tsvector generated always as
  (to_tsvector('simple', title || ' ' || outcome || ' ' || because || ' ' || service || ' ' || notes)) stored;
create index incident_words on incident using gin (words);
update incident i set alerts = (select count(*) from alert a where a.incident = i.number);
-- Files and links that people put to a record. A file's body is kept in pieces, so that it never is in memory whole.
-- It refers to its incident without a constraint, so that a file may come in slowly while others write to the record; its
-- size is -1 until it is whole.
create table attachment (id text primary key, incident bigint not null, kind text not null,
  name text not null, url text not null default '', type text not null default '', size bigint not null default 0,
  digest text not null default '', added_by text not null, added_at timestamptz not null default now());
create index attachment_incident on attachment (incident, added_at);
create table attachment_piece (attachment text not null references attachment on delete cascade, n bigint not null,
  body bytea not null, primary key (attachment, n));

-- +goose Down
drop table attachment_piece, attachment;
alter table incident drop column words, drop column join_key, drop column join_until, drop column title_by,
  drop column severity_by, drop column holder, drop column held_at, drop column merged_into, drop column alerts,
  drop column notes;
drop index incident_service, incident_severity, incident_opened;
