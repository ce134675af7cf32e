-- +goose Up
-- When it is judged again whether somebody must be called for an incident (incident/N), or a run that belongs to none
-- (run/ID); config is the configuration that it was judged by.
create table attention (subject text primary key, due timestamptz not null, config bigint not null default 0);
create index on attention (due);
insert into attention (subject, due) select 'incident/' || number, now() from incident where state = 'open';
-- Notices that are urgent are calls: of which subject, since when, and how bad what they call for was.
alter table notice add column subject text not null default '', add column since timestamptz,
  add column worth integer not null default 0;
update notice set subject = 'incident/' || incident where incident is not null;
update notice set since = at where urgent;
create index notice_calls on notice (subject) where urgent and state <> 'over';
-- Since when an alert is as bad as it is: raised, worse, opened again, split off, reported again after it was treated, or
-- its planned work ended.
alter table alert add column since timestamptz;
update alert set since = first_at where state = 'open';
-- What planned work holds back already is marked so; by which, it is judged with the first look.
update alert a set muted_by = 'planned work', muted_until = s.due from starting s
  where s.alert = a.id and s.runbook = '' and s.start = 'mute' and a.state = 'open';
-- Since when an incident itself wants somebody, without an alert: a person opened it, or opened it again. severity_at is
-- when its severity was set by hand.
alter table incident add column wanted_at timestamptz, add column severity_at timestamptz,
  add column former text not null default '';
update incident set severity_at = opened_at where severity_by <> '';
update incident set wanted_at = opened_at where state = 'open' and alerts = 0;
create trigger config_changed after insert or delete or update of roles on person for each statement
  execute function config_changed();
-- How far alerts are judged anew by planned work that changed: digest is that of the mutes they are judged by.
create table rejudge (what text primary key, digest text not null, source text not null, key text not null,
  over boolean not null);
create table mute_changes (n bigint not null);
insert into mute_changes values (0);
-- +goose StatementBegin
create function mute_changed() returns trigger language plpgsql as $$
begin
  update mute_changes set n = n + 1;
  return null;
end $$;
-- +goose StatementEnd
create trigger mute_written after insert or update on document for each row when (new.kind = 'mute')
  execute function mute_changed();
create trigger mute_removed after delete on document for each row when (old.kind = 'mute')
  execute function mute_changed();

-- +goose Down
drop trigger mute_removed on document;
drop trigger mute_written on document;
drop function mute_changed();
drop table mute_changes;
drop table rejudge;
drop trigger config_changed on person;
alter table incident drop column wanted_at, drop column severity_at, drop column former;
alter table alert drop column since;
drop index notice_calls;
alter table notice drop column subject, drop column since, drop column worth;
drop table attention;
