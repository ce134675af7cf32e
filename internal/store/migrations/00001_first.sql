-- +goose Up
create table instance (
  id text primary key, host text not null, pid int not null, version text not null,
  begun_at timestamptz not null default now(), beat_at timestamptz not null default now(), fenced_at timestamptz);
create table setting (key text primary key, value text not null, by text not null default '', at timestamptz not null default now());

create table person (name text primary key, password_hash text not null, roles text not null, added_at timestamptz not null default now());
create table session (hash bytea primary key, person text not null references person on delete cascade,
  begun_at timestamptz not null default now(), expires_at timestamptz not null);
create table token (name text primary key, hash bytea not null unique, roles text not null, made_by text not null,
  expires_at timestamptz not null, last_used_at timestamptz);
create table act (id bigserial primary key, at timestamptz not null default now(), actor text not null, act text not null,
  subject text not null default '', detail text not null default '');

create table source (name text primary key, token_hash bytea not null, call_back text not null default '',
  added_at timestamptz not null default now(), last_alert_at timestamptz);
create table service (name text primary key, title text not null default '', owner text not null, stance text not null default 'ask');
create table target (name text primary key, service text not null, address text not null, port int not null, account text not null,
  secret text not null default '', host_key text not null default '', labels jsonb not null default '{}');
create index on target (service);
create table secret (name text not null, version int not null, kind text not null, sealed bytea not null,
  set_by text not null, set_at timestamptz not null default now(), primary key (name, version));
create table connection (name text primary key, kind text not null, url text not null);

create table revision (name text not null, number int not null, revision text not null, text text not null, title text not null,
  owner text not null, service text not null, about text not null, tags jsonb not null, pushed_by text not null,
  pushed_at timestamptz not null default now(), primary key (name, number));
create index on revision (revision);
create table runbook (name text primary key, number int not null);

create table incident (
  number bigserial primary key, title text not null, state text not null default 'open', waiting_on text not null default 'nobody',
  outcome text not null default '', because text not null default '', severity text not null, service text not null default '',
  opened_at timestamptz not null, resolved_at timestamptz, entries bigint not null default 0, last_hash text not null default '');
create index on incident (state, number desc);
create table entry (
  incident bigint not null references incident, seq bigint not null, at timestamptz not null, kind text not null, actor text not null,
  run text not null default '', step text not null default '', title text not null, content text, digest text not null,
  prev text not null, hash text not null, primary key (incident, seq));

create table alert (
  id text primary key, source text not null, key text not null, state text not null, severity text not null, summary text not null,
  service text not null, link text not null, labels jsonb not null, count bigint not null default 1, first_at timestamptz not null,
  last_at timestamptz not null, incident bigint, verdicts jsonb not null default '[]');
create unique index alert_open on alert (source, key) where state = 'open';
create index on alert (incident);
create index on alert (first_at desc, id);

create table run (
  id text primary key, runbook text not null, title text not null, revision text not null, incident bigint, state text not null default 'running',
  waits_on text not null default '', started_by text not null, because text not null default '', begun_at timestamptz not null, ended_at timestamptz,
  owner text, epoch bigint not null default 0, version bigint not null default 0, rung_at timestamptz);
create index on run (begun_at desc, id);
create index on run (incident) where incident is not null;
create index run_active on run (begun_at) where ended_at is null;
create index run_owned on run (owner) where owner is not null;
create index run_rung on run (rung_at) where rung_at is not null;
create table event (run text not null, seq bigint not null, at timestamptz not null, path text not null, kind text not null, body text not null,
  primary key (run, seq));
create table timer (run text primary key, due timestamptz not null);
create index on timer (due);

create table gate (id text primary key, run text not null, incident bigint, path text not null, title text not null, state text not null default 'open',
  raised_at timestamptz not null, until timestamptz not null, decided_by text not null default '', comment text not null default '', raised jsonb not null);
create index gate_open on gate (raised_at) where state = 'open';
create index on gate (incident);
create table question (id text primary key, run text not null, incident bigint, path text not null, state text not null default 'open',
  raised_at timestamptz not null, until timestamptz not null, raised jsonb not null);
create index question_open on question (raised_at) where state = 'open';

create table delivery (id bigserial primary key, key text not null unique, kind text not null, address text not null, body text not null, incident bigint,
  state text not null default 'queued', tries int not null default 0, error text not null default '', queued_at timestamptz not null default now(), sent_at timestamptz);
create index delivery_queued on delivery (id) where state = 'queued';
create table artifact (id text primary key, size bigint not null, body bytea not null, at timestamptz not null default now());

-- What changed, in commit order: read by (xid, id) below pg_snapshot_xmin, so that no reader misses a late commit.
create table feed (id bigserial primary key, xid xid8 not null default pg_current_xact_id(), at timestamptz not null default now(),
  topic text not null, ref text not null, incident bigint);
create index on feed (xid, id);

-- +goose Down
drop table feed, artifact, delivery, question, gate, timer, event, run, alert, entry, incident, runbook, revision, connection, secret, target,
  service, source, act, token, session, person, setting, instance;
