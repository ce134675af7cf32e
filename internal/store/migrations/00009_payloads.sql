-- +goose Up
-- What a mapped source really sent when an alert was raised or changed, so that the alert can always show it.
create table payload (id text primary key, at timestamptz not null default now(), content_type text not null,
  headers jsonb not null, query jsonb not null, body bytea not null);
create index payload_at on payload (at);
create table alert_payload (alert text not null, payload text not null references payload on delete cascade,
  primary key (alert, payload));
create index alert_payload_payload on alert_payload (payload);

-- +goose Down
drop table alert_payload;
drop table payload;
