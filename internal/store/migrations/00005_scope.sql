-- +goose Up
-- Runs and lines of the feed name their service, so that lists and the stream can be narrowed to some services.
alter table run add column service text not null default '';
update run set service = coalesce((select v.service from revision v where v.revision = run.revision limit 1), '');
create index run_active_service on run (service, begun_at) where ended_at is null;
alter table feed add column service text not null default '';

-- +goose Down
alter table feed drop column service;
alter table run drop column service;
