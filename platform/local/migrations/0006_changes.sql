-- +goose Up
-- +goose StatementBegin
-- What has a kind is found without reading everything.
CREATE INDEX resources_kind ON resources (kind);
-- How often something of a scope was changed: whoever looks for changes reads
-- one number, not all resources.
CREATE TABLE changes (
    region TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL, n INTEGER NOT NULL,
    PRIMARY KEY (region, service, stage)
);
CREATE TRIGGER resource_came AFTER INSERT ON resources BEGIN
    INSERT INTO changes (region, service, stage, n) VALUES (new.region, new.service, new.stage, 1) ON CONFLICT DO UPDATE SET n = n + 1;
END;
CREATE TRIGGER resource_changed AFTER UPDATE ON resources BEGIN
    INSERT INTO changes (region, service, stage, n) VALUES (new.region, new.service, new.stage, 1) ON CONFLICT DO UPDATE SET n = n + 1;
END;
CREATE TRIGGER resource_went AFTER DELETE ON resources BEGIN
    INSERT INTO changes (region, service, stage, n) VALUES (old.region, old.service, old.stage, 1) ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
