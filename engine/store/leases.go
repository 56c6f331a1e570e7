package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"rudmar/core/manifest"
)

// Errors of places.
var (
	ErrLease  = errors.New("another deployment is running there")     // or took over the scope
	ErrSerial = errors.New("another deployment ran there since then") // the record changed
)

// Lease is the right to change a place. A later holder has a greater fence; writes of an earlier one are
// rejected.
type Lease struct {
	manifest.Place
	Holder string
	Fence  int64
}

// TakeLease takes the lease of a place for a while; ErrLease if somebody else has it. Its holder gets it again:
// work started before is rejected from then on.
func (s *Store) TakeLease(ctx context.Context, p manifest.Place, holder string, length time.Duration) (Lease, error) {
	l := Lease{Place: p, Holder: holder}
	err := s.Within(ctx, func(tx Tx) error {
		var until int64
		var by string
		row := tx.QueryRowContext(ctx,
			`SELECT holder, fence, until FROM leases WHERE service = ? AND stage = ? AND target = ?`, p.Service,
			p.Stage, p.Target.String())
		if err := row.Scan(&by, &l.Fence, &until); err != nil && !errors.Is(err, sql.ErrNoRows) {
			return err
		} else if err == nil && until > s.stamp() && by != "" && by != holder {
			return ErrLease
		}
		// Greater than any before, even after the database was restored from a copy.
		l.Fence = max(l.Fence+1, s.stamp())
		_, err := tx.ExecContext(ctx, `INSERT INTO leases (service, stage, target, holder, fence, until) VALUES (?,?,?,?,?,?)
			ON CONFLICT DO UPDATE SET holder = excluded.holder, fence = excluded.fence, until = excluded.until`,
			p.Service, p.Stage, p.Target.String(), holder, l.Fence, s.now().Add(length).UnixMilli())
		return err
	})
	return l, err
}

// RenewLease extends a lease; ErrLease if it is lost.
func (s *Store) RenewLease(ctx context.Context, l Lease, length time.Duration) error {
	return s.Within(ctx, func(tx Tx) error {
		if err := tx.holds(ctx, l); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE leases SET until = ? WHERE service = ? AND stage = ? AND target = ?`,
			s.now().Add(length).UnixMilli(), l.Service, l.Stage, l.Target.String())
		return err
	})
}

// EndLease releases a place.
func (s *Store) EndLease(ctx context.Context, l Lease) error {
	return s.Within(ctx, func(tx Tx) error { return tx.endLease(ctx, l) })
}

func (tx Tx) endLease(ctx context.Context, l Lease) error {
	_, err := tx.ExecContext(ctx,
		`UPDATE leases SET holder = '', until = 0 WHERE service = ? AND stage = ? AND target = ? AND fence = ?`, l.Service,
		l.Stage, l.Target.String(), l.Fence)
	return err
}

// DropLeases releases the leases of a process that has ended: called once at start, when no other process has
// the database.
func (s *Store) DropLeases(ctx context.Context) error {
	return s.exec(ctx, `UPDATE leases SET holder = '', until = 0, fence = fence + 1`)
}

func (tx Tx) holds(ctx context.Context, l Lease) error {
	var fence int64
	err := tx.QueryRowContext(ctx, `SELECT fence FROM leases WHERE service = ? AND stage = ? AND target = ?`, l.Service,
		l.Stage, l.Target.String()).Scan(&fence)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if fence != l.Fence {
		return ErrLease
	}
	return nil
}
