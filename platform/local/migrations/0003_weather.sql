-- +goose Up
-- +goose StatementBegin
-- How a region answers, by a person's wish.
CREATE TABLE weather (region TEXT PRIMARY KEY, setting TEXT NOT NULL);
-- +goose StatementEnd
