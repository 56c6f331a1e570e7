-- +goose Up
-- +goose StatementBegin
-- What was changed by hand and is left as it is: by whom, why, and until when (0 for
-- no end). An attribute of '' stands for the resource.
CREATE TABLE drift_left (
    service TEXT NOT NULL, stage TEXT NOT NULL, target TEXT NOT NULL,
    address TEXT NOT NULL, attribute TEXT NOT NULL, live TEXT NOT NULL,
    reason TEXT NOT NULL, person TEXT NOT NULL, at INTEGER NOT NULL, until INTEGER NOT NULL,
    PRIMARY KEY (service, stage, target, address, attribute)
);
-- +goose StatementEnd
