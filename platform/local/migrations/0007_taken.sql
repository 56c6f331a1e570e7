-- +goose Up
-- +goose StatementBegin
-- What requests a route takes, as a key that two routes share just when they collide;
-- '' for a route that is off. Where it is not known yet it is NULL, and filled in at the
-- start: it follows from the attributes, by the rules of routes.
ALTER TABLE resources ADD COLUMN taken TEXT;
CREATE INDEX resources_taken ON resources (region, service, stage, taken) WHERE taken <> '';
-- +goose StatementEnd
