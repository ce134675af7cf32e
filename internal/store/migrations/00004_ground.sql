-- +goose Up
-- What an instance had in hand when it died, written only after an unclean end. See internal/store/suspects.go.
create table suspect (kind text not null, ref text not null, instance text not null, at timestamptz not null default now(), primary key (kind, ref, instance));
-- A run that instances died of is driven by nobody until a person lets it go on.
alter table run add column set_aside_at timestamptz;
-- How long an alert may go on after its incident was closed, before that is opened again; 0: 15 minutes.
alter table service add column quiet_minutes int not null default 0;

-- +goose Down
alter table service drop column quiet_minutes;
alter table run drop column set_aside_at;
drop table suspect;
