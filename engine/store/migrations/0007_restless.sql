-- +goose Up
-- +goose StatementBegin
-- What may still happen by itself is found without reading what is over.
CREATE INDEX deliveries_restless ON deliveries (service, stage)
    WHERE state IN ('waiting', 'planning', 'deploying', 'shifting', 'proving', 'stopped');
-- +goose StatementEnd
