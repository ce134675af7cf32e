-- +goose Up
-- What somebody changed, for whoever looks for what came before a trouble.
create table deployment (id text primary key, source text not null, service text not null, version text not null,
  environment text not null, summary text not null, by text not null, link text not null, at timestamptz not null,
  received_at timestamptz not null default now());
create index deployment_service on deployment (service, at desc);
create index deployment_at on deployment (at desc);

-- +goose Down
drop table deployment;
