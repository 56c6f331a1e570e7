-- +goose Up
-- +goose StatementBegin
ALTER TABLE minutes ADD COLUMN fine_durations TEXT NOT NULL DEFAULT '{}';
-- +goose StatementEnd
