-- +goose Up
-- +goose StatementBegin
-- Until when the routes of a private copy are open to those that its manifests name; 0 for its owner alone.
ALTER TABLE copies ADD COLUMN open_until INTEGER NOT NULL DEFAULT 0;
-- +goose StatementEnd
