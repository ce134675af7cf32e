-- +goose Up
-- What a desk told of a ticket before it had said the ticket's number to us.
create table early_news (
    id bigserial primary key,
    desk text not null,
    ticket text not null,
    news text not null,
    at timestamptz not null default now()
);
create index early_news_ticket on early_news (desk, ticket);
create index ticket_opening on ticket (connection) where number = '' and state = 'wanted';

-- +goose Down
drop index ticket_opening;
drop table early_news;
