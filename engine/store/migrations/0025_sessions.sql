-- +goose Up
-- +goose StatementBegin
-- Sessions can be listed and ended, and end when they are idle; and where somebody has signed in before.
ALTER TABLE sessions ADD COLUMN id INTEGER NOT NULL DEFAULT 0;
ALTER TABLE sessions ADD COLUMN made_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE sessions ADD COLUMN used_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE sessions ADD COLUMN address TEXT NOT NULL DEFAULT '';
DELETE FROM sessions;
CREATE UNIQUE INDEX sessions_id ON sessions (id);
CREATE TABLE sign_in_addresses (
    handle TEXT NOT NULL REFERENCES people ON DELETE CASCADE, address TEXT NOT NULL, at INTEGER NOT NULL,
    PRIMARY KEY (handle, address)
) WITHOUT ROWID;
-- +goose StatementEnd
