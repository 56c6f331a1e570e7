-- +goose Up
-- +goose StatementBegin
-- Where notices go, and what was sent there. A notice is written with the fact that it
-- tells, and sent afterwards; its body is a CloudEvent as it goes out.
CREATE TABLE hooks (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL, url TEXT NOT NULL, sealed BLOB NOT NULL, kinds TEXT NOT NULL,
    service TEXT NOT NULL, stage TEXT NOT NULL, person TEXT NOT NULL, made_at INTEGER NOT NULL, ended_at INTEGER NOT NULL DEFAULT 0
);
CREATE UNIQUE INDEX hooks_named ON hooks (name) WHERE ended_at = 0;
CREATE TABLE notices (
    id INTEGER PRIMARY KEY AUTOINCREMENT, hook INTEGER NOT NULL REFERENCES hooks, kind TEXT NOT NULL, service TEXT NOT NULL,
    stage TEXT NOT NULL, body TEXT NOT NULL, state TEXT NOT NULL, tries INTEGER NOT NULL DEFAULT 0, due_at INTEGER NOT NULL,
    made_at INTEGER NOT NULL, ended_at INTEGER NOT NULL DEFAULT 0, answer TEXT NOT NULL DEFAULT ''
);
CREATE INDEX notices_due ON notices (due_at) WHERE state = 'queued';
CREATE INDEX notices_hook ON notices (hook, id);
-- +goose StatementEnd
