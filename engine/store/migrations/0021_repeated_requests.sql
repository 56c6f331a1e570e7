-- +goose Up
-- +goose StatementBegin
-- Requests with an Idempotency-Key, and their responses for repetitions.
CREATE TABLE repeatable_requests (
    person TEXT NOT NULL, key TEXT NOT NULL, digest TEXT NOT NULL, process TEXT NOT NULL, at INTEGER NOT NULL,
    status INTEGER NOT NULL DEFAULT 0, response BLOB NOT NULL DEFAULT x'',
    PRIMARY KEY (person, key)
);
CREATE INDEX repeatable_requests_at ON repeatable_requests (at);
-- +goose StatementEnd
