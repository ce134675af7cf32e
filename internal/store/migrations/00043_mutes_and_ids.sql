-- +goose Up
-- The end of planned work is read from the alerts that it holds back. Of alerts each report may have an identity.
create index on alert (muted_until) where muted_by <> '' and state = 'open';
delete from starting where runbook = '';
create index on heard_id (at);

-- +goose Down
drop index alert_muted_until_idx;
drop index heard_id_at_idx;
