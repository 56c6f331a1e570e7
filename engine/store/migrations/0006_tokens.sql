-- +goose Up
-- +goose StatementBegin
-- What machines act with in somebody's name. The token itself is kept as its SHA-256.
CREATE TABLE tokens (
    id INTEGER PRIMARY KEY, handle TEXT NOT NULL REFERENCES people ON DELETE CASCADE, name TEXT NOT NULL,
    hash TEXT NOT NULL UNIQUE, acts TEXT NOT NULL, places TEXT NOT NULL,
    made_at INTEGER NOT NULL, until INTEGER NOT NULL, ended_at INTEGER NOT NULL DEFAULT 0,
    used_at INTEGER NOT NULL DEFAULT 0, used_from TEXT NOT NULL DEFAULT ''
);
CREATE UNIQUE INDEX tokens_named ON tokens (handle, name) WHERE ended_at = 0;
-- By which token something was done; '' where somebody did it themselves.
ALTER TABLE journal ADD COLUMN token TEXT NOT NULL DEFAULT '';
-- +goose StatementEnd
