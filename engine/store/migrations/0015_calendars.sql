-- +goose Up
-- +goose StatementBegin
-- Calendars that stages name by their addresses, as they were read last.
CREATE TABLE calendars (
    address TEXT PRIMARY KEY, text TEXT NOT NULL, read_at INTEGER NOT NULL, error TEXT NOT NULL
);
-- +goose StatementEnd
