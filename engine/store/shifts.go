package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/judge"
	"rudmar/core/metrics"
)

// Shift is the traffic shift of a version in a stage.
type Shift struct {
	Service string `json:"-"`
	Version int    `json:"-"`
	Stage   string `json:"-"`
	Active  bool   `json:"-"`

	delivery.Shift
	// Before is the version that settled there last, and Old the revision IDs that served its functions, by
	// target and function.
	Before int                          `json:"before"`
	Old    map[string]map[string]string `json:"old"`
	// Begun is when the version received its first invocations, the start of the comparison.
	Begun time.Time `json:"begun"`
	// Splits has, for each step, the sums of the minute of its start before it, by target, function, trigger and
	// revision: within a minute, both parts are compared on their own. Before Begun nothing is counted. Earlier is the
	// same for the old revisions alone, by target, function and trigger, of a shift that started before an update.
	Splits  []map[string]Earlier `json:"splits,omitempty"`
	Earlier map[string]Earlier   `json:"earlier,omitempty"`
	Looked  map[string]int       `json:"looked,omitempty"` // invocations at the last look, by function
	Verdict *judge.Verdict       `json:"verdict,omitempty"`
	Reason  string               `json:"reason,omitempty"` // whether it advanced or stays
	At      time.Time            `json:"at"`               // when it advances by time; zero if it does not
	// Deployment applies the share; 0 for none.
	Deployment int64 `json:"deployment,omitempty"`
	// Restores means that the version is restored by a rollback: it receives all traffic at once, before anything
	// else, and nothing is restored if it fails. Pointing has the deployments of its traffic pointers by target, 0 for a
	// target with nothing to do; they have ended once Pointed is set.
	Restores bool             `json:"restores,omitempty"`
	Pointing map[string]int64 `json:"pointing,omitempty"`
	Pointed  bool             `json:"pointed,omitempty"`
	// Points are counts by minute, over all changed functions.
	Points []ShiftPoint `json:"points,omitempty"`
	// Said counts the commands that people gave it.
	Said int `json:"said,omitempty"`
	// Completed steps: time, share and reason.
	Taken []ShiftStep `json:"taken,omitempty"`
}

// Earlier is the part of a minute's sum before the start of a step.
type Earlier struct {
	Minute      int64       `json:"minute"` // Unix milliseconds of its start
	Invocations int         `json:"invocations"`
	Errors      int         `json:"errors"`
	Durations   map[int]int `json:"fineDurations,omitempty"`
	// Coarse are durations in buckets that grow by a tenth, of a shift that started before an update.
	Coarse map[int]int `json:"durations,omitempty"`
}

// Split returns the parts of a minute's sum before and after it; all of it is after a part of another minute.
func (e Earlier) Split(sum metrics.Sum, minute int64) (before, after metrics.Sum) {
	before, after = metrics.Sum{Durations: metrics.Histogram{}, MaxMs: sum.MaxMs}, sum
	if e.Minute != minute {
		return before, after
	}
	before.Invocations, before.Errors = min(sum.Invocations, e.Invocations), min(sum.Errors, e.Errors)
	after.Invocations, after.Errors = sum.Invocations-before.Invocations, sum.Errors-before.Errors
	earlier := metrics.Histogram{}
	earlier.Add(e.Durations)
	for k, n := range e.Coarse {
		earlier.AddCoarse(k, n)
	}
	after.Durations = metrics.Histogram{}
	for k, n := range sum.Durations {
		part := min(n, earlier[k])
		if part > 0 {
			before.Durations[k] = part
		}
		if n > part {
			after.Durations[k] = n - part
		}
	}
	return before, after
}

// ShiftPoint has the counts of both revisions in a minute.
type ShiftPoint struct {
	At  int64     `json:"at"` // Unix milliseconds of its start
	New PointSide `json:"new"`
	Old PointSide `json:"old"`
}

// PointSide has the counts of one revision.
type PointSide struct {
	Invocations int     `json:"invocations"`
	Errors      int     `json:"errors"`
	P95         float64 `json:"p95"` // milliseconds, of warm invocations
}

// ShiftStep is a completed step of a shift.
type ShiftStep struct {
	At     time.Time `json:"at"`
	Share  float64   `json:"share"`
	Reason string    `json:"reason,omitempty"`
}

func takeShift(r scanner) (Shift, error) {
	var s Shift
	var body string
	if err := r.Scan(&s.Service, &s.Version, &s.Stage, &s.Active, &body); err != nil {
		return s, err
	}
	return s, json.Unmarshal([]byte(body), &s)
}

// Shift returns the traffic shift of a version in a stage; ErrNotFound if nothing was there before.
func (s *Store) Shift(ctx context.Context, service string, version int, stage string) (Shift, error) {
	return one(ctx, s.read, takeShift, `SELECT service, version, stage, active, body FROM shifts
		WHERE service = ? AND version = ? AND stage = ?`, service, version, stage)
}

// ActiveShifts returns the shifts of a service that are not over.
func (s *Store) ActiveShifts(ctx context.Context, service string) ([]Shift, error) {
	return list(ctx, s.read, takeShift, `SELECT service, version, stage, active, body FROM shifts
		WHERE service = ? AND active = 1 ORDER BY stage`, service)
}

// PutShift stores a shift, with an event.
func (s *Store) PutShift(ctx context.Context, v Shift) error {
	return s.Within(ctx, func(tx Tx) error { return tx.PutShift(ctx, v) })
}

// PutShift stores a shift in a transaction.
func (tx Tx) PutShift(ctx context.Context, v Shift) error {
	body, err := json.Marshal(v)
	if err != nil {
		return fmt.Errorf("storing a traffic shift: %w", err)
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO shifts (service, version, stage, active, body) VALUES (?,?,?,?,?)
		ON CONFLICT DO UPDATE SET active = excluded.active, body = excluded.body`, v.Service, v.Version, v.Stage, v.Active,
		string(body)); err != nil {
		return err
	}
	return tx.Publish(ctx, v.Service, TopicShift, map[string]any{"version": v.Version, "stage": v.Stage})
}

// endShift ends a version's shift, once the version has settled or left.
func (tx Tx) endShift(ctx context.Context, d Delivery) error {
	_, err := tx.ExecContext(ctx, `UPDATE shifts SET active = 0 WHERE service = ? AND version = ? AND stage = ?`, d.Service,
		d.Version, d.Stage)
	return err
}

// ChangeShift applies a person's command to an active shift, in one transaction with the check that the
// delivery is active. The journal names the person.
func (s *Store) ChangeShift(ctx context.Context, d Delivery, person, what string, change func(v *Shift) error) error {
	return s.Within(ctx, func(tx Tx) error {
		v, err := one(ctx, tx, takeShift, `SELECT s.service, s.version, s.stage, s.active, s.body FROM shifts s
			JOIN deliveries d USING (service, version, stage) WHERE s.service = ? AND s.version = ? AND s.stage = ?
			AND s.active = 1 AND d.state = ?`, d.Service, d.Version, d.Stage, delivery.Shifting)
		if err != nil {
			return fmt.Errorf("version %d has no traffic shift in %s: %w", d.Version, d.Stage, ErrMoved)
		}
		if err := change(&v); err != nil {
			return err
		}
		v.Said++
		if err := tx.Note(ctx, Entry{Person: person, Service: d.Service, Stage: d.Stage, What: what,
			Text: fmt.Sprintf("version %d at %.3g%%", d.Version, v.Share())}); err != nil {
			return err
		}
		return tx.PutShift(ctx, v)
	})
}

// JudgeShift stores a shift after a judgment or a step, like KeepShift.
func (s *Store) JudgeShift(ctx context.Context, v Shift) error {
	return s.Within(ctx, func(tx Tx) error { return tx.KeepShift(ctx, v) })
}

// KeepShift stores a shift in a transaction, unless a person has given it a command since it was read, or it is
// over: then the error is ErrMoved, and it must be judged again.
func (tx Tx) KeepShift(ctx context.Context, v Shift) error {
	now, err := one(ctx, tx, takeShift, `SELECT service, version, stage, active, body FROM shifts
		WHERE service = ? AND version = ? AND stage = ?`, v.Service, v.Version, v.Stage)
	if err != nil {
		return err
	}
	if !now.Active || now.Said != v.Said {
		return fmt.Errorf("the traffic shift of version %d in %s: %w", v.Version, v.Stage, ErrMoved)
	}
	return tx.PutShift(ctx, v)
}
