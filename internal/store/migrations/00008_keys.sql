-- +goose Up
-- A source has several keys, so that a new one can be in use before the old one ends. A token is kept as its hash; a
-- signing secret, with which signatures are computed, sealed.
create table source_key (id text primary key, source text not null references source on delete cascade,
  kind text not null, hash bytea not null default '', sealed bytea not null default '', added_by text not null,
  added_at timestamptz not null default now(), ends_at timestamptz, last_used_at timestamptz);
create index source_key_source on source_key (source);
insert into source_key (id, source, kind, hash, added_by, added_at)
  select 'k' || md5(name), name, 'token', token_hash, 'urgentis', added_at from source where length(token_hash) > 0;
alter table source drop column token_hash;

-- +goose Down
alter table source add column token_hash bytea not null default '';
update source s set token_hash = k.hash from source_key k where k.source = s.name and k.kind = 'token';
drop table source_key;
