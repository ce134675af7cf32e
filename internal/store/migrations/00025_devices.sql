-- +goose Up
alter table target add column device text not null default '';
