-- +goose Up
-- +goose StatementBegin
-- Times are Unix milliseconds.
CREATE TABLE people (
    handle TEXT PRIMARY KEY, role TEXT NOT NULL, groups TEXT NOT NULL DEFAULT '', password TEXT NOT NULL, made_at INTEGER NOT NULL
);
CREATE TABLE sessions (
    token TEXT PRIMARY KEY, handle TEXT NOT NULL REFERENCES people ON DELETE CASCADE, csrf TEXT NOT NULL, until INTEGER NOT NULL
);
CREATE TABLE repositories (name TEXT PRIMARY KEY, made_at INTEGER NOT NULL);
CREATE TABLE services (
    name TEXT PRIMARY KEY, repository TEXT NOT NULL REFERENCES repositories, dir TEXT NOT NULL, made_at INTEGER NOT NULL
);
CREATE TABLE heads (
    repository TEXT NOT NULL REFERENCES repositories, branch TEXT NOT NULL, hash TEXT NOT NULL, PRIMARY KEY (repository, branch)
);
CREATE TABLE builds (
    id INTEGER PRIMARY KEY, service TEXT NOT NULL REFERENCES services, hash TEXT NOT NULL, branch TEXT NOT NULL,
    person TEXT NOT NULL, state TEXT NOT NULL, why TEXT NOT NULL DEFAULT '', log TEXT NOT NULL DEFAULT '',
    version INTEGER NOT NULL DEFAULT 0, asked_at INTEGER NOT NULL, ended_at INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX builds_hash ON builds (service, hash);
CREATE TABLE artifacts (
    digest TEXT PRIMARY KEY, file_sha256 TEXT NOT NULL, bytes INTEGER NOT NULL, listing TEXT NOT NULL, made_at INTEGER NOT NULL
);
CREATE TABLE versions (
    service TEXT NOT NULL REFERENCES services, number INTEGER NOT NULL, hash TEXT NOT NULL, branch TEXT NOT NULL,
    author TEXT NOT NULL, message TEXT NOT NULL, committed_at INTEGER NOT NULL, built_at INTEGER NOT NULL,
    content TEXT NOT NULL, manifests TEXT NOT NULL,
    PRIMARY KEY (service, number), UNIQUE (service, content)
);
CREATE TABLE version_functions (
    service TEXT NOT NULL, version INTEGER NOT NULL, function TEXT NOT NULL,
    digest TEXT NOT NULL REFERENCES artifacts, sources TEXT NOT NULL, changed INTEGER NOT NULL,
    PRIMARY KEY (service, version, function), FOREIGN KEY (service, version) REFERENCES versions (service, number)
);
CREATE INDEX version_functions_sources ON version_functions (sources);
CREATE TABLE plans (
    id INTEGER PRIMARY KEY, service TEXT NOT NULL REFERENCES services, stage TEXT NOT NULL, target TEXT NOT NULL,
    version INTEGER NOT NULL, digest TEXT NOT NULL, body TEXT NOT NULL, person TEXT NOT NULL, made_at INTEGER NOT NULL
);
CREATE TABLE deployments (
    id INTEGER PRIMARY KEY, plan INTEGER NOT NULL REFERENCES plans, service TEXT NOT NULL, stage TEXT NOT NULL, target TEXT NOT NULL,
    version INTEGER NOT NULL, state TEXT NOT NULL, why TEXT NOT NULL DEFAULT '', person TEXT NOT NULL,
    cancelled INTEGER NOT NULL DEFAULT 0, started_at INTEGER NOT NULL, ended_at INTEGER NOT NULL DEFAULT 0
);
CREATE INDEX deployments_stage ON deployments (service, stage, id);
CREATE TABLE deployment_steps (
    deployment INTEGER NOT NULL REFERENCES deployments, step INTEGER NOT NULL, address TEXT NOT NULL, kind TEXT NOT NULL,
    state TEXT NOT NULL, key TEXT NOT NULL DEFAULT '', error TEXT NOT NULL DEFAULT '', attempts INTEGER NOT NULL DEFAULT 0,
    started_at INTEGER NOT NULL DEFAULT 0, ended_at INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (deployment, step)
);
CREATE TABLE stages (
    service TEXT NOT NULL REFERENCES services, stage TEXT NOT NULL, target TEXT NOT NULL,
    serial INTEGER NOT NULL DEFAULT 0, version INTEGER NOT NULL DEFAULT 0, since INTEGER NOT NULL DEFAULT 0,
    PRIMARY KEY (service, stage, target)
);
CREATE TABLE records (
    service TEXT NOT NULL, stage TEXT NOT NULL, target TEXT NOT NULL, address TEXT NOT NULL,
    kind TEXT NOT NULL, function TEXT NOT NULL, attributes TEXT NOT NULL, needs TEXT NOT NULL,
    platform TEXT NOT NULL DEFAULT '{}', version INTEGER NOT NULL, changed_at INTEGER NOT NULL,
    PRIMARY KEY (service, stage, target, address)
);
CREATE TABLE leases (
    service TEXT NOT NULL, stage TEXT NOT NULL, target TEXT NOT NULL,
    holder TEXT NOT NULL, fence INTEGER NOT NULL, until INTEGER NOT NULL,
    PRIMARY KEY (service, stage, target)
);
CREATE TABLE deliveries (
    service TEXT NOT NULL, version INTEGER NOT NULL, stage TEXT NOT NULL, state TEXT NOT NULL, since INTEGER NOT NULL,
    why TEXT NOT NULL DEFAULT '', requested_by TEXT NOT NULL DEFAULT '', deployments TEXT NOT NULL DEFAULT '[]',
    PRIMARY KEY (service, version, stage), FOREIGN KEY (service, version) REFERENCES versions (service, number)
);
CREATE TABLE approvals (
    service TEXT NOT NULL, version INTEGER NOT NULL, stage TEXT NOT NULL, person TEXT NOT NULL, comment TEXT NOT NULL, at INTEGER NOT NULL,
    PRIMARY KEY (service, version, stage, person)
);
CREATE TABLE case_runs (
    id INTEGER PRIMARY KEY, service TEXT NOT NULL, version INTEGER NOT NULL, stage TEXT NOT NULL, target TEXT NOT NULL,
    function TEXT NOT NULL, file TEXT NOT NULL, name TEXT NOT NULL, passed INTEGER NOT NULL, body TEXT NOT NULL, at INTEGER NOT NULL
);
CREATE INDEX case_runs_place ON case_runs (service, version, stage);
CREATE TABLE looks (
    service TEXT NOT NULL, stage TEXT NOT NULL, target TEXT NOT NULL, at INTEGER NOT NULL, body TEXT NOT NULL,
    PRIMARY KEY (service, stage, target)
);
CREATE TABLE secrets (
    service TEXT NOT NULL, stage TEXT NOT NULL, name TEXT NOT NULL, sealed BLOB NOT NULL, person TEXT NOT NULL, at INTEGER NOT NULL,
    PRIMARY KEY (service, stage, name)
);
CREATE TABLE journal (
    id INTEGER PRIMARY KEY, at INTEGER NOT NULL, person TEXT NOT NULL, service TEXT NOT NULL, stage TEXT NOT NULL,
    what TEXT NOT NULL, text TEXT NOT NULL
);
CREATE TABLE events (
    id INTEGER PRIMARY KEY AUTOINCREMENT, at INTEGER NOT NULL, service TEXT NOT NULL, topic TEXT NOT NULL, body TEXT NOT NULL
);

-- What has happened is not changed afterwards.
CREATE TRIGGER versions_stay BEFORE UPDATE ON versions BEGIN SELECT raise(ABORT, 'a version is never changed'); END;
CREATE TRIGGER versions_kept BEFORE DELETE ON versions BEGIN SELECT raise(ABORT, 'a version is never deleted'); END;
CREATE TRIGGER version_functions_stay BEFORE UPDATE ON version_functions BEGIN SELECT raise(ABORT, 'a version is never changed'); END;
CREATE TRIGGER version_functions_kept BEFORE DELETE ON version_functions BEGIN SELECT raise(ABORT, 'a version is never deleted'); END;
CREATE TRIGGER artifacts_stay BEFORE UPDATE ON artifacts BEGIN SELECT raise(ABORT, 'an artifact is never changed'); END;
CREATE TRIGGER plans_stay BEFORE UPDATE ON plans BEGIN SELECT raise(ABORT, 'a plan is never changed'); END;
CREATE TRIGGER plans_kept BEFORE DELETE ON plans BEGIN SELECT raise(ABORT, 'a plan is never deleted'); END;
CREATE TRIGGER journal_stay BEFORE UPDATE ON journal BEGIN SELECT raise(ABORT, 'the journal is never changed'); END;
CREATE TRIGGER journal_kept BEFORE DELETE ON journal BEGIN SELECT raise(ABORT, 'the journal is never shortened'); END;
-- +goose StatementEnd
