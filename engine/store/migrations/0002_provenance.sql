-- +goose Up
-- +goose StatementBegin
-- Where a version came from and what is inside of it. Versions that were built
-- before have none.
CREATE TABLE provenance (
    service TEXT NOT NULL, version INTEGER NOT NULL,
    envelope TEXT NOT NULL, -- DSSE
    contents TEXT NOT NULL, -- CycloneDX
    PRIMARY KEY (service, version), FOREIGN KEY (service, version) REFERENCES versions (service, number)
);
CREATE TRIGGER provenance_stays BEFORE UPDATE ON provenance BEGIN SELECT raise(ABORT, 'the provenance of a version is never changed'); END;
CREATE TRIGGER provenance_kept BEFORE DELETE ON provenance BEGIN SELECT raise(ABORT, 'the provenance of a version is never deleted'); END;
-- +goose StatementEnd
