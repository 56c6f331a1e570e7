-- +goose Up
-- +goose StatementBegin
ALTER TABLE minutes ADD COLUMN error_kinds TEXT NOT NULL DEFAULT '{}';
ALTER TABLE minutes ADD COLUMN durations TEXT NOT NULL DEFAULT '{}';
-- +goose StatementEnd
