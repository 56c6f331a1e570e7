-- +goose Up
-- running: the case was begun and its end is not known; again: it had been begun
-- before, and Rudmar was ended in between.
ALTER TABLE case_runs ADD COLUMN running INTEGER NOT NULL DEFAULT 0;
ALTER TABLE case_runs ADD COLUMN again INTEGER NOT NULL DEFAULT 0;
CREATE INDEX deployments_running ON deployments (state) WHERE state = 'running';
CREATE INDEX builds_queued ON builds (state) WHERE state = 'queued';

-- Written to see whether the database can be written.
CREATE TABLE beat (one INTEGER PRIMARY KEY CHECK (one = 1), at INTEGER NOT NULL);
