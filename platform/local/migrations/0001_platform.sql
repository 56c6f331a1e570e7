-- +goose Up
-- +goose StatementBegin
CREATE TABLE resources (
    region TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL,
    address TEXT NOT NULL, kind TEXT NOT NULL,
    attributes TEXT NOT NULL, secrets TEXT NOT NULL DEFAULT '{}',
    tag TEXT NOT NULL, changed_at INTEGER NOT NULL, version INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (region, service, stage, address)
);
CREATE TABLE revisions (
    region TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL,
    function TEXT NOT NULL, id TEXT NOT NULL, artifact TEXT NOT NULL,
    config TEXT NOT NULL, secrets TEXT NOT NULL, version INTEGER NOT NULL, made_at INTEGER NOT NULL,
    PRIMARY KEY (region, service, stage, function, id)
);
CREATE TABLE answered (key TEXT PRIMARY KEY, body TEXT NOT NULL, at INTEGER NOT NULL);
CREATE TABLE tables (
    region TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL, name TEXT NOT NULL,
    key TEXT NOT NULL, value TEXT NOT NULL, changed_at INTEGER NOT NULL,
    PRIMARY KEY (region, service, stage, name, key)
);
CREATE TABLE log_lines (
    id INTEGER PRIMARY KEY, at INTEGER NOT NULL,
    region TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL,
    function TEXT NOT NULL, revision TEXT NOT NULL, invocation TEXT NOT NULL, instance TEXT NOT NULL,
    stream TEXT NOT NULL, text TEXT NOT NULL
);
CREATE INDEX log_lines_place ON log_lines (region, service, stage, function, id);
CREATE TABLE minutes (
    region TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL,
    function TEXT NOT NULL, revision TEXT NOT NULL, cause TEXT NOT NULL, minute INTEGER NOT NULL,
    calls INTEGER NOT NULL, errors INTEGER NOT NULL, throttled INTEGER NOT NULL, cold INTEGER NOT NULL,
    total_ms REAL NOT NULL, max_ms REAL NOT NULL, memory_peak INTEGER NOT NULL,
    PRIMARY KEY (region, service, stage, function, revision, cause, minute)
);
CREATE TABLE uses (
    region TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL, function TEXT NOT NULL,
    verb TEXT NOT NULL, resource TEXT NOT NULL, allowed INTEGER NOT NULL,
    count INTEGER NOT NULL, last_at INTEGER NOT NULL,
    PRIMARY KEY (region, service, stage, function, verb, resource, allowed)
);
CREATE TABLE fires (
    region TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL, address TEXT NOT NULL,
    last_at INTEGER NOT NULL,
    PRIMARY KEY (region, service, stage, address)
);
CREATE TABLE callers (token TEXT PRIMARY KEY, name TEXT NOT NULL, groups TEXT NOT NULL);
-- +goose StatementEnd
