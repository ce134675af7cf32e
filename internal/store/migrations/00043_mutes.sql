-- +goose Up
-- The end of planned work is read from the alerts that it holds back.
create index on alert (muted_until) where muted_by <> '' and state = 'open';
delete from starting where runbook = '';

-- +goose Down
drop index alert_muted_until_idx;
