-- +goose Up
-- +goose StatementBegin
-- A mirror writes only into its folders; and people's email addresses, by which the authors of mirrored commits are known.
ALTER TABLE mirrors ADD COLUMN folders TEXT NOT NULL DEFAULT '.';
ALTER TABLE people ADD COLUMN emails TEXT NOT NULL DEFAULT '';
-- +goose StatementEnd
