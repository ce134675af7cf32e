-- +goose Up
-- A run is found by what it was begun with: its first event says it, and is never written again. A text that is no JSON
-- to the database is found by nothing, and is kept all the same.
-- +goose StatementBegin
create function begun_with(body text) returns jsonb language plpgsql immutable strict as $$
begin
	return body::jsonb;
exception when others then
	return null;
end $$;
-- +goose StatementEnd
create index event_begun_words on event
	using gin (jsonb_to_tsvector('simple', begun_with(body), '["string", "numeric", "boolean"]')) where seq = 1;
create index event_begun_inputs on event using gin ((begun_with(body) -> 'inputs') jsonb_path_ops) where seq = 1;
create index run_started_by on run (started_by, begun_at desc);

-- +goose Down
drop index run_started_by;
drop index event_begun_inputs;
drop index event_begun_words;
drop function begun_with(text);
