-- +goose Up
-- An alert is counted again and again: with room beside it, its row moves within its page and no index is written.
alter table alert set (fillfactor = 75);
-- The worst open alert of an incident is asked for with each alert that joins or leaves it. No partial index: one of
-- open alerts would be mistaken for that by which they are found, as long as they are few.
create index alert_worst on alert (incident, state,
  (array_position(array['critical', 'major', 'minor', 'warning'], severity)), first_at, id);
drop index alert_incident_idx;

-- +goose Down
alter table alert reset (fillfactor);
create index alert_incident_idx on alert (incident);
drop index alert_worst;
