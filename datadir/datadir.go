// Package datadir locks a data directory for one process. The lock ends with the process, however
// it ends.
package datadir

import (
	"context"
	"errors"
	"time"

	"github.com/gofrs/flock"
)

// ErrHeld reports that another process has the folder.
var ErrHeld = errors.New("another process uses this folder; stop it first")

// handover is how long to wait for a lock: a child process of a killed process inherits it for a moment, until
// it executes its program.
const handover = 3 * time.Second

// Take locks a folder for this process, until it ends. If another process has the lock the error is ErrHeld.
func Take(ctx context.Context, file string) (*flock.Flock, error) {
	lock := flock.New(file, flock.SetPermissions(0o600))
	waiting, cancel := context.WithTimeout(ctx, handover)
	defer cancel()
	taken, err := lock.TryLockContext(waiting, 50*time.Millisecond)
	switch {
	case taken:
		return lock, nil
	case ctx.Err() == nil && (err == nil || errors.Is(err, context.DeadlineExceeded)):
		return nil, ErrHeld
	}
	return nil, err
}
