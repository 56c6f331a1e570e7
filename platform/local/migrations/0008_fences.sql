-- +goose Up
-- +goose StatementBegin
-- The greatest fence that a change of a scope came with: a holder that has been
-- replaced, and does not know it, changes nothing any more.
CREATE TABLE fences (
    region TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL, fence INTEGER NOT NULL,
    PRIMARY KEY (region, service, stage)
);
-- Schedules are looked at each second, among however many resources.
CREATE INDEX resources_schedules ON resources (kind) WHERE kind = 'schedule';
-- +goose StatementEnd
