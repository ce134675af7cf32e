-- +goose Up
-- Instances of which something may still be under way for a run that is over: its locks stay until they have reported.
create table landing (
  run text not null references run (id) on delete cascade,
  instance text not null,
  primary key (run, instance)
);

-- +goose Down
drop table landing;
