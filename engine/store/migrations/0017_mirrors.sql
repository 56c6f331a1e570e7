-- +goose Up
-- +goose StatementBegin
-- Repositories that follow another one: from where, and how that goes. The credentials and
-- the key of push notices are sealed.
CREATE TABLE mirrors (
    repository TEXT PRIMARY KEY REFERENCES repositories ON DELETE CASCADE, url TEXT NOT NULL, user TEXT NOT NULL, sealed BLOB NOT NULL,
    key BLOB NOT NULL, every INTEGER NOT NULL, person TEXT NOT NULL, made_at INTEGER NOT NULL,
    tried_at INTEGER NOT NULL, read_at INTEGER NOT NULL, error TEXT NOT NULL
);
-- +goose StatementEnd
