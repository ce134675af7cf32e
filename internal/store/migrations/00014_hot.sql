-- +goose Up
-- An alert is counted again and again: with room beside it, its row moves within its page and no index is written.
alter table alert set (fillfactor = 75);

-- +goose Down
alter table alert reset (fillfactor);
