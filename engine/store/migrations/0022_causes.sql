-- +goose Up
-- +goose StatementBegin
-- The kind of a failure, so code need not read its text; and the journal by service.
ALTER TABLE deployments ADD COLUMN cause TEXT NOT NULL DEFAULT '';
UPDATE deployments SET cause = 'unreachable' WHERE why LIKE '%is unreachable%' OR why LIKE '%does not answer%';
CREATE INDEX journal_service ON journal (service, id);
-- +goose StatementEnd
