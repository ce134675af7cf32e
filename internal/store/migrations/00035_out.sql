-- +goose Up
-- Of a try of a message nobody knows whether it arrived.
alter table delivery add column unsure boolean not null default false;
-- What is known of a ticket that has no number yet: '' it was not asked for, unsure, or taken; and since when the desk
-- says that it knows none. told_at is when it was last written to.
alter table ticket add column asked text not null default '', add column none_at timestamptz,
  add column told_at timestamptz;
update ticket t set asked = 'unsure' where t.number = '' and t.state = 'wanted' and exists (select from delivery d
  where d.incident = t.incident and d.kind = 'desk' and d.address = t.connection and d.tries > 0);

-- +goose Down
alter table ticket drop column asked, drop column none_at, drop column told_at;
alter table delivery drop column unsure;
