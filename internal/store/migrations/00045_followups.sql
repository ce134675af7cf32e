-- +goose Up
-- What is left to do after an incident, and what people state of one in the place of its runbook or service.
create table follow_up (
	id text primary key,
	incident bigint not null references incident,
	service text not null,
	text text not null,
	owner text not null,
	due timestamptz,
	state text not null,
	by text not null,
	at timestamptz not null,
	settled_by text not null,
	settled_at timestamptz
);
create index follow_up_incident on follow_up (incident);
create index follow_up_state on follow_up (state, due);
alter table incident add column harm text not null default '';
alter table incident add column cause text not null default '';

-- +goose Down
alter table incident drop column cause;
alter table incident drop column harm;
drop table follow_up;
