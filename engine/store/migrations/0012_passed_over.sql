-- +goose Up
-- +goose StatementBegin
-- Gates that somebody passed over, for one version in one stage.
CREATE TABLE passed_over (
    service TEXT NOT NULL, version INTEGER NOT NULL, stage TEXT NOT NULL, kind TEXT NOT NULL, name TEXT NOT NULL,
    person TEXT NOT NULL, reason TEXT NOT NULL, at INTEGER NOT NULL,
    PRIMARY KEY (service, version, stage, kind, name)
);
-- +goose StatementEnd
