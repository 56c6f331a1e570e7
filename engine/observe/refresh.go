package observe

import (
	"context"
	"errors"
	"sync"

	"rudmar/core/manifest"
	"rudmar/engine/store"
)

// Refresh observes the places of a service, of one stage or all, whose recorded or actual state has changed since
// they were observed last, such as by a deployment that has just ended. It returns when all are observed, or with
// the context's error.
func (w *Watch) Refresh(ctx context.Context, service, stage string) error {
	places, err := w.store.Stages(ctx, service)
	if err != nil {
		return err
	}
	var group sync.WaitGroup
	errs := make([]error, len(places))
	for i, p := range places {
		if stage == "" || p.Stage == stage {
			group.Go(func() { errs[i] = w.refresh(ctx, p) })
		}
	}
	group.Wait()
	return errors.Join(errs...)
}

func (w *Watch) refresh(ctx context.Context, at store.Stage) error {
	for {
		if w.isCurrent(ctx, at.Place) {
			return nil
		}
		busy, claimed := w.claim(at.Place)
		if claimed {
			break
		}
		select { // that read may have begun before the change
		case <-busy:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	defer w.release(at.Place)
	seen, err := w.Observations(ctx, at.Service)
	if err != nil {
		return err
	}
	return w.one(ctx, at.Place, seen[at.Place], false)
}

// isCurrent reports whether the last comparison of a place is valid still.
func (w *Watch) isCurrent(ctx context.Context, p manifest.Place) bool {
	stamp, err := w.planner.Stamp(ctx, p)
	if err != nil { // the observation reports it
		return false
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	known, ok := w.seen[p]
	return ok && stamp != "" && known.stamp == stamp
}
