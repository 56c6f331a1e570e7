package store

import (
	"context"
	"time"
)

// newestKept is the number of a service's newest versions whose archives are kept regardless of age, for
// rollbacks.
const newestKept = 20

// OldPlans counts the plans from before a time that were never executed, and their bytes; here and below
// nothing is older than the zero time.
func (s *Store) OldPlans(ctx context.Context, before time.Time) (n int, bytes int64, err error) {
	err = s.read.QueryRowContext(ctx, `SELECT count(*), coalesce(sum(length(body)), 0) FROM plans WHERE `+oldPlans,
		stampOf(before)).Scan(&n, &bytes)
	return n, bytes, err
}

const oldPlans = `made_at < ?1 AND NOT EXISTS (SELECT 1 FROM deployments d WHERE d.plan = plans.id)`

// DropPlans deletes them.
func (s *Store) DropPlans(ctx context.Context, before time.Time) error {
	return s.exec(ctx, `DELETE FROM plans WHERE `+oldPlans, stampOf(before))
}

const oldLogs = `ended_at > 0 AND ended_at < ?1 AND log <> ''`

// OldLogs counts the builds that ended before a time and have a log, and its bytes.
func (s *Store) OldLogs(ctx context.Context, before time.Time) (n int, bytes int64, err error) {
	err = s.read.QueryRowContext(ctx, `SELECT count(*), coalesce(sum(length(log)), 0) FROM builds WHERE `+oldLogs,
		stampOf(before)).Scan(&n, &bytes)
	return n, bytes, err
}

// DropLogs deletes the logs; the builds and their results are kept.
func (s *Store) DropLogs(ctx context.Context, before time.Time) error {
	return s.exec(ctx, `UPDATE builds SET log = '' WHERE `+oldLogs, stampOf(before))
}

// OldArchives lists the archives of versions that were built before a time, are neither deployed nor being
// delivered, and are not among the newest twenty of their service.
func (s *Store) OldArchives(ctx context.Context, before time.Time) ([]Artifact, error) {
	return list(ctx, s.read, func(r scanner) (Artifact, error) {
		var a Artifact
		return a, r.Scan(&a.Digest, &a.FileSHA256, &a.Bytes)
	}, `SELECT digest, file_sha256, bytes FROM artifacts a WHERE EXISTS (SELECT 1 FROM version_functions f WHERE f.digest = a.digest)
		AND NOT EXISTS (SELECT 1 FROM version_functions f JOIN versions v ON v.service = f.service AND v.number = f.version
			WHERE f.digest = a.digest AND (v.built_at >= ?1
			OR v.number > (SELECT max(number) FROM versions n WHERE n.service = v.service) - ?2
			OR EXISTS (SELECT 1 FROM stages s WHERE s.service = v.service AND s.version = v.number)
			OR EXISTS (SELECT 1 FROM standing s WHERE s.service = v.service AND s.version = v.number)
			OR EXISTS (SELECT 1 FROM deliveries d, json_each(d.choice, '$.kept') k
				WHERE d.service = v.service AND d.choice <> '' AND k.value = v.number
				AND (d.state NOT IN ('settled', 'rejected', 'rolled-back', 'superseded') OR EXISTS (SELECT 1 FROM standing s
					WHERE s.service = d.service AND s.stage = d.stage AND s.version = d.version)))
			OR EXISTS (SELECT 1 FROM deliveries d WHERE d.service = v.service AND d.version = v.number AND d.state IN ('waiting', 'planning', 'deploying', 'shifting', 'testing', 'failed'))))`, stampOf(before), newestKept)
}

// ReclaimSpace returns unused space to the file system, if it is more than a quarter of the database. Writes
// wait meanwhile.
func (s *Store) ReclaimSpace(ctx context.Context) error {
	var pages, free int64
	for pragma, to := range map[string]*int64{"page_count": &pages, "freelist_count": &free} {
		if err := s.read.QueryRowContext(ctx, `PRAGMA `+pragma).Scan(to); err != nil {
			return err
		}
	}
	if free*4 < pages {
		return nil
	}
	return s.exec(ctx, `VACUUM`)
}
