-- +goose Up
-- By what alerts find an incident that they join. A key leads to one incident at a time: where that is merged into
-- another, the row moves. It holds until a time, and as long as an alert of the incident is open that has the key.
create table incident_key (key text primary key, incident bigint not null references incident, until timestamptz not null,
  within bigint not null);
create index on incident_key (incident);
-- The key that an alert keeps alive while it is open; '' for none.
alter table alert add column join_key text not null default '';
create index alert_join on alert (join_key, state) where join_key <> '';
-- By its identity, the last alert of a condition that is over: it says in which incident that was. Whoever raises an
-- alert writes nothing here.
create index alert_identity on alert (source, key, first_at desc) where state = 'cleared';
-- What was left behind in incidents that are part of others, while both were written to, goes where they went.
with recursive way as (
  select number, merged_into as into_ from incident where merged_into is not null
  union all
  select w.number, i.merged_into from way w join incident i on i.number = w.into_ where i.merged_into is not null
), ends as (
  select w.number, w.into_ from way w join incident i on i.number = w.into_ and i.merged_into is null
)
update alert a set incident = e.into_ from ends e where a.incident = e.number;
update incident i set alerts = (select count(*) from alert a where a.incident = i.number) where i.merged_into is not null
  or exists (select from incident m where m.merged_into = i.number);
insert into incident_key (key, incident, until, within)
  select distinct on (join_key) join_key, number, coalesce(join_until, opened_at), 900 from incident
  where join_key <> '' and state = 'open' order by join_key, number desc;

-- +goose Down
drop index alert_identity;
drop index alert_join;
alter table alert drop column join_key;
drop table incident_key;
