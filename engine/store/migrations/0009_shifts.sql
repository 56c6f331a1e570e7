-- +goose Up
-- +goose StatementBegin
-- How a version came into a stage after another one: what served before it, and how
-- far its share of the calls has got. body is JSON; active until the version has
-- settled or gone, and steers what its pointers are wanted to be.
CREATE TABLE shifts (
    service TEXT NOT NULL, version INTEGER NOT NULL, stage TEXT NOT NULL, active INTEGER NOT NULL, body TEXT NOT NULL,
    PRIMARY KEY (service, version, stage)
);
CREATE INDEX shifts_active ON shifts (service) WHERE active = 1;
-- +goose StatementEnd
