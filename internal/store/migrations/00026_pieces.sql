-- +goose Up
-- Which processes pass output on, and whether somebody looks on there. What is printed passes through piece on its way to
-- those who look on elsewhere; nothing of it need outlive a crash.
create unlogged table teller (name text primary key, listens boolean not null, until timestamptz not null);
create unlogged table piece (id bigserial primary key, teller text not null, at timestamptz not null default now(), body text not null);
create index piece_at on piece (at);
