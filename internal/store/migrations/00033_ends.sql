-- +goose Up
-- What a run was begun for: alerts, or with '' its incident as a whole; how bad each was then. outcome is how the run
-- said that it ended; '' while it did not.
create table treats (run text not null, alert text not null, how text not null, worth integer not null,
  outcome text not null default '', because text not null default '', at timestamptz, primary key (run, alert));
create index on treats (alert);
-- How an alert was treated last: by which run, how that ended, how bad the alert was as the run was begun for it.
alter table alert add column treated_run text not null default '', add column treated_as text not null default '',
  add column treated_worth integer not null default 0, add column treated_at timestamptz,
  -- Planned work that holds it back, and until when.
  add column muted_by text not null default '', add column muted_until timestamptz;
-- A run that left its matter to people, until one of them says that it is done with. to_whom is '' where nobody was
-- named: it ended otherwise than it should.
create table hand_over (run text primary key, incident bigint references incident, to_whom text not null, state text not null,
  because text not null, at timestamptz not null, settled_at timestamptz, settled_by text not null default '');
create index on hand_over (incident) where settled_at is null;
insert into treats (run, alert, how, worth) select r.id, a.id, 'started',
    array_position(array['cleared', 'warning', 'minor', 'major', 'critical'], a.severity) - 1
  from run r join alert a on a.id = r.alert;
insert into hand_over (run, incident, to_whom, state, because, at)
  select r.id, r.incident, '', r.state, coalesce(r.because, ''), r.ended_at from run r
  left join incident i on i.number = r.incident
  where r.ended_at is not null and r.state in ('handed-over', 'failed') and (i.number is null or i.state = 'open')
    and (i.number is not null or r.ended_at > now() - interval '1 day');

-- Messages of one thread arrive in their order. does is what a source is told to do.
alter table delivery add column thread text not null default '', add column does text not null default '';
create index on delivery (thread, id) where thread <> '';

update treats t set outcome = i.outcome, because = i.because, at = r.ended_at from run r
  join incident i on i.number = r.incident where r.id = t.run and r.state = 'done' and i.state = 'resolved'
  and i.outcome in ('repaired', 'mitigated', 'false-alarm', 'not-repaired', 'repaired-by-hand', 'cleared-itself');

-- +goose Down
alter table delivery drop column thread, drop column does;
drop table hand_over;
alter table alert drop column treated_run, drop column treated_as, drop column treated_worth, drop column treated_at,
  drop column muted_by, drop column muted_until;
drop table treats;
