-- +goose Up
-- Pages outside that tell more of a service.
alter table service add column links jsonb;
-- How a run names its incident by what it reads, and how it did as that was at its worst.
alter table incident add column title_run text not null default '', add column worst_title text not null default '',
  add column worst_value double precision;

-- +goose Down
alter table incident drop column worst_value, drop column worst_title, drop column title_run;
alter table service drop column links;
