-- +goose Up
-- +goose StatementBegin
-- From when on a version that was asked for may enter, in Unix milliseconds; 0 for at once.
ALTER TABLE deliveries ADD COLUMN not_before INTEGER NOT NULL DEFAULT 0;
-- Who has looked at what a version means in a stage, while it waits.
CREATE TABLE looked (
    service TEXT NOT NULL, version INTEGER NOT NULL, stage TEXT NOT NULL, person TEXT NOT NULL, at INTEGER NOT NULL,
    PRIMARY KEY (service, version, stage, person)
);
-- +goose StatementEnd
