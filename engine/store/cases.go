package store

import (
	"context"
	"time"
)

// CaseRun is the outcome of one case.
type CaseRun struct {
	ID                           int64
	Target, Function, File, Name string
	Passed                       bool
	Running                      bool   // its result is not known
	Again                        bool   // it started before, and Rudmar ended in between
	Body                         string // JSON: the expected and the actual result
	At                           time.Time
}

// BeginCase records the start of a case, or its repeated start. It returns the run's ID.
func (s *Store) BeginCase(ctx context.Context, d Delivery, r CaseRun) (int64, error) {
	if r.ID != 0 {
		return r.ID, s.exec(ctx, `UPDATE case_runs SET again = 1, at = ? WHERE id = ?`, s.stamp(), r.ID)
	}
	result, err := s.write.ExecContext(ctx,
		`INSERT INTO case_runs (service, version, stage, target, function, file, name, passed, body, at, running) VALUES (?,?,?,?,?,?,?,0,'',?,1)`,
		d.Service, d.Version, d.Stage, r.Target, r.Function, r.File, r.Name, s.stamp())
	if err != nil {
		return 0, err
	}
	return result.LastInsertId()
}

// EndCase writes down the outcome of a case.
func (s *Store) EndCase(ctx context.Context, r CaseRun) error {
	return s.exec(ctx, `UPDATE case_runs SET passed = ?, body = ?, at = ?, running = 0 WHERE id = ?`, r.Passed,
		r.Body, s.stamp(), r.ID)
}

// dropCases forgets the outcome of a version's cases in a stage: they run again.
func (tx Tx) dropCases(ctx context.Context, d Delivery) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM case_runs WHERE service = ? AND version = ? AND stage = ?`,
		d.Service, d.Version, d.Stage)
	return err
}

// CaseRuns returns the outcome of a version's cases in a stage, and which run.
func (s *Store) CaseRuns(ctx context.Context, service string, version int, stage string) ([]CaseRun, error) {
	return list(ctx, s.read, func(r scanner) (CaseRun, error) {
		var v CaseRun
		var at int64
		err := r.Scan(&v.ID, &v.Target, &v.Function, &v.File, &v.Name, &v.Passed, &v.Running, &v.Again, &v.Body, &at)
		v.At = millis(at)
		return v, err
	}, `SELECT id, target, function, file, name, passed, running, again, body, at FROM case_runs WHERE service = ? AND version = ? AND stage = ? ORDER BY target, function, file, id`, service, version, stage)
}
