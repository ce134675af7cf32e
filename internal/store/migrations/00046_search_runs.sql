-- +goose Up
-- A run is found by what it was begun with: its first event says it, and is never written again.
create index event_begun_words on event
	using gin (jsonb_to_tsvector('simple', body::jsonb, '["string", "numeric", "boolean"]')) where seq = 1;
create index event_begun_inputs on event using gin ((body::jsonb -> 'inputs') jsonb_path_ops) where seq = 1;
create index run_started_by on run (started_by, begun_at desc);

-- +goose Down
drop index run_started_by;
drop index event_begun_inputs;
drop index event_begun_words;
