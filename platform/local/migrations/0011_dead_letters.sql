-- +goose Up
-- +goose StatementBegin
UPDATE operations SET state = 'succeeded' WHERE state = 'done';
ALTER TABLE messages RENAME COLUMN parked TO dead;
-- +goose StatementEnd
