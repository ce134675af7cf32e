-- +goose Up
-- A token ends with whoever made it; one that was made on the machine of the service has perhaps no such person.
alter table token add column on_machine boolean not null default false;
update token t set on_machine = true where not exists (select from person p where p.name = t.made_by);

-- +goose Down
alter table token drop column on_machine;
