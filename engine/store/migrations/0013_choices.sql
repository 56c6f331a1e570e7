-- +goose Up
-- +goose StatementBegin
-- Which functions of a version enter a stage, as JSON, where not all of them do; and that
-- the others are to follow now.
ALTER TABLE deliveries ADD COLUMN choice TEXT NOT NULL DEFAULT '';
ALTER TABLE deliveries ADD COLUMN rest INTEGER NOT NULL DEFAULT 0;
-- +goose StatementEnd
