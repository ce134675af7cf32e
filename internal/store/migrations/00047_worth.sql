-- +goose Up
-- What the records of incidents that are over say in figures (core/worth).
create table incident_fact (
	number bigint primary key references incident,
	service text not null,
	closed_at timestamptz not null,
	source text not null,
	key text not null,
	facts jsonb not null
);
create index incident_fact_closed on incident_fact (closed_at);
alter table incident add column facts_at timestamptz;
create index incident_factless on incident (number)
	where state = 'closed' and merged_into is null and facts_at is distinct from closed_at;

-- +goose Down
drop index incident_factless;
alter table incident drop column facts_at;
drop table incident_fact;
