-- +goose Up
-- +goose StatementBegin
-- Private copies of a stage: whose they are, and when they were last used. What they
-- hold lies on the platform alone.
CREATE TABLE copies (
    service TEXT NOT NULL REFERENCES services, handle TEXT NOT NULL REFERENCES people ON DELETE CASCADE,
    stage TEXT NOT NULL, target TEXT NOT NULL, made_at INTEGER NOT NULL, used_at INTEGER NOT NULL,
    PRIMARY KEY (service, handle)
);
-- +goose StatementEnd
