-- +goose Up
-- The texts of runbooks of which one change was tried alone (runbook.Alone): what a run needs of a revision. They are
-- revisions of no runbook, so that nothing starts by them and no list has them.
create table alone (revision text primary key, name text not null, text text not null, of text not null,
  step text not null, pushed_by text not null, made_at timestamptz not null default now());

-- +goose Down
drop table alone;
