-- +goose Up
-- +goose StatementBegin
CREATE TABLE objects (
    region TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL, name TEXT NOT NULL,
    key TEXT NOT NULL, type TEXT NOT NULL, content BLOB NOT NULL, changed_at INTEGER NOT NULL,
    PRIMARY KEY (region, service, stage, name, key)
);
CREATE TABLE kept_secrets (
    region TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL, name TEXT NOT NULL, value TEXT NOT NULL,
    PRIMARY KEY (region, service, stage, name)
);
-- What waits for a function: a message of a queue, or an event for one subscription.
CREATE TABLE messages (
    id INTEGER PRIMARY KEY,
    region TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL,
    queue TEXT NOT NULL,        -- '' for an event
    subscription TEXT NOT NULL, -- '' for a message that any subscription of its queue may take
    body TEXT NOT NULL, sent_at INTEGER NOT NULL, due_at INTEGER NOT NULL,
    attempts INTEGER NOT NULL DEFAULT 0, taken INTEGER NOT NULL DEFAULT 0,
    parked INTEGER NOT NULL DEFAULT 0, why TEXT NOT NULL DEFAULT ''
);
CREATE INDEX messages_waiting ON messages (region, service, stage, queue, subscription, parked, taken, due_at);
-- +goose StatementEnd
