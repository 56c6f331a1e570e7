-- +goose Up
-- +goose StatementBegin
-- Which request changed a resource last, for whoever looks for a change by hand.
ALTER TABLE resources ADD COLUMN changed_by TEXT NOT NULL DEFAULT '';
-- +goose StatementEnd
