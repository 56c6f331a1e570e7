-- +goose Up
-- +goose StatementBegin
-- Pushes to branches that no stage takes: what they would change is looked at and told.
CREATE TABLE branch_plans (
    id INTEGER PRIMARY KEY, service TEXT NOT NULL, branch TEXT NOT NULL, hash TEXT NOT NULL, person TEXT NOT NULL,
    state TEXT NOT NULL, text TEXT NOT NULL, at INTEGER NOT NULL
);
CREATE INDEX branch_plans_queued ON branch_plans (id) WHERE state = 'queued';
-- +goose StatementEnd
