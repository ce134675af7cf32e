-- +goose Up
-- One word for each thing.
alter table run rename column set_aside_at to quarantined_at;
update run set waits_on = 'quarantined' where waits_on = 'set-aside';
alter table way rename to contact;
alter table contact rename column proven_at to verified_at;
alter table unread rename to unparsed;
update went set fate = 'undone' where fate = 'taken-back';
alter table incident rename column resolved_at to closed_at;
update incident set state = 'closed' where state = 'resolved';
alter table standing rename to scheduled_look;
alter index standing_due rename to scheduled_look_due;

-- +goose Down
alter index scheduled_look_due rename to standing_due;
alter table scheduled_look rename to standing;
update incident set state = 'resolved' where state = 'closed';
alter table incident rename column closed_at to resolved_at;
update went set fate = 'taken-back' where fate = 'undone';
alter table unparsed rename to unread;
alter table contact rename column verified_at to proven_at;
alter table contact rename to way;
update run set waits_on = 'set-aside' where waits_on = 'quarantined';
alter table run rename column quarantined_at to set_aside_at;
