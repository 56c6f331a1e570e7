-- +goose Up
-- +goose StatementBegin
-- When a version came to be so in a stage: what is measured of deliveries.
CREATE TABLE passages (
    id INTEGER PRIMARY KEY, service TEXT NOT NULL, stage TEXT NOT NULL, version INTEGER NOT NULL, state TEXT NOT NULL,
    at INTEGER NOT NULL
);
CREATE INDEX passages_stage ON passages (service, at);
INSERT INTO passages (service, stage, version, state, at)
    SELECT service, stage, version, state, since FROM deliveries WHERE state IN ('settled', 'went back', 'stopped') AND removes = 0;
CREATE INDEX pushes_after ON pushes (after);
-- +goose StatementEnd
