-- +goose Up
-- +goose StatementBegin
-- Whose rules of entry stand in a stage: those of the version that settled last.
CREATE TABLE standing (
    service TEXT NOT NULL REFERENCES services, stage TEXT NOT NULL, version INTEGER NOT NULL, since INTEGER NOT NULL,
    PRIMARY KEY (service, stage), FOREIGN KEY (service, version) REFERENCES versions (service, number)
);
INSERT INTO standing (service, stage, version, since)
    SELECT service, stage, max(version), max(since) FROM deliveries WHERE state = 'settled' GROUP BY service, stage;

-- removes: the version takes the stage away. agreed: what entering meant when it
-- was agreed to, as sentences; empty where nobody had to.
ALTER TABLE deliveries ADD COLUMN removes INTEGER NOT NULL DEFAULT 0;
ALTER TABLE deliveries ADD COLUMN agreed TEXT NOT NULL DEFAULT '';
-- turn: the order in which versions came; one that is pushed again gets a new one.
ALTER TABLE deliveries ADD COLUMN turn INTEGER NOT NULL DEFAULT 0;
UPDATE deliveries SET turn = version;
-- missing: what a version that stopped goes on by itself for, once it has come:
-- platform, or plan (a secret, a region: whatever stopped its plan).
ALTER TABLE deliveries ADD COLUMN missing TEXT NOT NULL DEFAULT '';
-- shown: what entering meant to who approved, as sentences.
ALTER TABLE approvals ADD COLUMN shown TEXT NOT NULL DEFAULT '[]';

-- Who pushed what a version was built from, as signed in.
ALTER TABLE versions ADD COLUMN person TEXT NOT NULL DEFAULT '';
UPDATE versions SET person = coalesce((SELECT person FROM builds
    WHERE builds.service = versions.service AND builds.version = versions.number ORDER BY id LIMIT 1), '');

-- How the gates of a version that waits were judged last, so that reading them
-- judges nothing.
CREATE TABLE judgements (
    service TEXT NOT NULL, version INTEGER NOT NULL, stage TEXT NOT NULL, at INTEGER NOT NULL, body TEXT NOT NULL,
    PRIMARY KEY (service, version, stage), FOREIGN KEY (service, version, stage) REFERENCES deliveries (service, version, stage)
);

-- Who pushed what, as signed in.
CREATE TABLE pushes (
    id INTEGER PRIMARY KEY, repository TEXT NOT NULL REFERENCES repositories, branch TEXT NOT NULL,
    before TEXT NOT NULL, after TEXT NOT NULL, person TEXT NOT NULL, at INTEGER NOT NULL
);
CREATE INDEX pushes_branch ON pushes (repository, branch, id);
CREATE TABLE pushed_commits (
    repository TEXT NOT NULL REFERENCES repositories, hash TEXT NOT NULL, person TEXT NOT NULL,
    PRIMARY KEY (repository, hash, person)
) WITHOUT ROWID;
CREATE TRIGGER pushes_stay BEFORE UPDATE ON pushes BEGIN SELECT raise(ABORT, 'a push is never changed'); END;
CREATE TRIGGER pushed_commits_stay BEFORE UPDATE ON pushed_commits BEGIN SELECT raise(ABORT, 'who pushed a commit is never changed'); END;

-- Where a role holds ("service" or "service/stage"; everywhere where it is
-- empty), and since when somebody may not sign in any more.
ALTER TABLE people ADD COLUMN places TEXT NOT NULL DEFAULT '';
ALTER TABLE people ADD COLUMN closed_at INTEGER NOT NULL DEFAULT 0;
-- Since when a service, or a repository, is not there any more.
ALTER TABLE services ADD COLUMN removed_at INTEGER NOT NULL DEFAULT 0;
ALTER TABLE repositories ADD COLUMN removed_at INTEGER NOT NULL DEFAULT 0;
-- What a service is called now, where it has got another name.
ALTER TABLE services ADD COLUMN became TEXT NOT NULL DEFAULT '';
-- +goose StatementEnd
