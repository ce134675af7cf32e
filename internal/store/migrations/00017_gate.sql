-- +goose Up
alter table service add column harm text not null default '';

-- How each change of a run went, as the run ended.
create table went (
    run text not null references run (id) on delete cascade,
    step text not null,
    title text not null,
    runbook text not null,
    service text not null,
    incident bigint,
    at timestamptz not null,
    fate text not null,
    targets integer not null,
    primary key (run, runbook, step)
);
create index went_step on went (runbook, step, at desc);

-- What is taken anew while a gate stands open, and when next.
create table gate_reading (
    gate text not null references gate (id) on delete cascade,
    at timestamptz not null,
    reading text not null,
    target text not null,
    value double precision not null
);
create index gate_reading_gate on gate_reading (gate, at);
alter table gate add column look_at timestamptz, add column looks integer not null default 0;
create index gate_look on gate (look_at) where state = 'open' and look_at is not null;

-- +goose Down
alter table gate drop column look_at, drop column looks;
drop table gate_reading;
drop table went;
alter table service drop column harm;
