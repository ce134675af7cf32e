-- +goose Up
-- Who is on call instead of whoever a rota says.
create table stand_in (
    id bigserial primary key,
    team text not null,
    line integer not null,
    from_at timestamptz not null,
    until_at timestamptz not null,
    person text not null,
    instead_of text not null default '',
    why text not null default '',
    entered_by text not null,
    entered_at timestamptz not null default now()
);
create index stand_in_team on stand_in (team, until_at);

-- +goose Down
drop table stand_in;
