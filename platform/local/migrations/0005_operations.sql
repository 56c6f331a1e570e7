-- +goose Up
-- +goose StatementBegin
-- A change that takes its time: accepted, and carried out later.
CREATE TABLE operations (
    id TEXT PRIMARY KEY, key TEXT NOT NULL UNIQUE,
    region TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL, address TEXT NOT NULL,
    wish TEXT NOT NULL, -- emptied at the end: it may hold secrets
    state TEXT NOT NULL, resource TEXT NOT NULL DEFAULT 'null', problem TEXT NOT NULL DEFAULT 'null',
    begun_at INTEGER NOT NULL, due_at INTEGER NOT NULL, ended_at INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX operations_waiting ON operations (state, due_at);
-- +goose StatementEnd
