-- +goose Up
-- +goose StatementBegin
-- running: the case was begun and its end is not known; again: it had been begun
-- before, and Rudmar was ended in between.
ALTER TABLE case_runs ADD COLUMN running INTEGER NOT NULL DEFAULT 0;
ALTER TABLE case_runs ADD COLUMN again INTEGER NOT NULL DEFAULT 0;
CREATE INDEX deployments_running ON deployments (state) WHERE state = 'running';
CREATE INDEX builds_queued ON builds (state) WHERE state = 'queued';

-- Written to see whether the database can be written.
CREATE TABLE beat (one INTEGER PRIMARY KEY CHECK (one = 1), at INTEGER NOT NULL);
-- How far functions are behind is counted over what changed, not over all.
CREATE INDEX version_functions_changed ON version_functions (service, version, function) WHERE changed = 1;
CREATE INDEX version_functions_behind ON version_functions (service, function, version) WHERE changed = 1;

-- A plan that was run is never taken away; others may be, by the operator's rules.
DROP TRIGGER plans_kept;
CREATE TRIGGER plans_kept BEFORE DELETE ON plans WHEN EXISTS (SELECT 1 FROM deployments WHERE plan = old.id)
BEGIN SELECT raise(ABORT, 'a plan that was run is never deleted'); END;
CREATE INDEX deployments_plan ON deployments (plan);
CREATE INDEX version_functions_digest ON version_functions (digest);
-- +goose StatementEnd
