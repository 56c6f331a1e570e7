package engine

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"rudmar/engine/build"
	"rudmar/engine/store"
)

// Keep has the retention times of an operator; 0 keeps data forever.
type Keep struct {
	Plans    time.Duration // of plans that were never executed
	Logs     time.Duration // of builds
	Archives time.Duration // of versions that are not deployed, except the newest twenty
}

// Pruned is the data beyond its retention time.
type Pruned struct {
	What  string
	Count int
	Bytes int64
}

// Tidy reports the data of a data folder beyond its retention time, and deletes it if do is set. Versions,
// executed plans, and the journal are kept.
func Tidy(ctx context.Context, s *store.Store, dir string, keep Keep, do bool) ([]Pruned, error) {
	since := func(d time.Duration) time.Time {
		if d <= 0 {
			return time.Time{}
		}
		return s.Now().Add(-d)
	}
	var out []Pruned
	var errs error
	for _, rule := range []struct {
		what   string
		before time.Time
		count  func(context.Context, time.Time) (int, int64, error)
		drop   func(context.Context, time.Time) error
	}{
		{"plans that were never run", since(keep.Plans), s.OldPlans, s.DropPlans},
		{"build logs", since(keep.Logs), s.OldLogs, s.DropLogs},
	} {
		n, bytes, err := rule.count(ctx, rule.before)
		if err == nil && do && n > 0 {
			err = rule.drop(ctx, rule.before)
		}
		out, errs = append(out, Pruned{rule.what, n, bytes}), errors.Join(errs, err)
	}
	archives, err := s.OldArchives(ctx, since(keep.Archives))
	errs = errors.Join(errs, err)
	gone := Pruned{What: "archives of versions that are not deployed"}
	for _, a := range archives {
		file := build.ArchiveFile(filepath.Join(dir, artifactsFolder), a.Digest)
		if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
			continue // deleted before
		}
		gone.Count, gone.Bytes = gone.Count+1, gone.Bytes+a.Bytes
		if do {
			if err := os.Remove(file); err != nil {
				errs = errors.Join(errs, fmt.Errorf("deleting an archive: %w", err))
			}
		}
	}
	out = append(out, gone)
	if do && errs == nil {
		errs = s.ReclaimSpace(ctx)
	}
	return out, errs
}

// tidyEvery is the interval of deletions of old data.
const tidyEvery = 6 * time.Hour

// pruneLoop deletes old data, by the operator's rules, until the context ends.
func (e *Engine) pruneLoop(ctx context.Context) {
	tick := time.NewTicker(tidyEvery)
	defer tick.Stop()
	for {
		gone, err := Tidy(ctx, e.Store, e.dir, e.keep, true)
		if err != nil && ctx.Err() == nil {
			e.log.Error("pruning", "error", err)
		}
		for _, g := range gone {
			if g.Count > 0 {
				e.log.Info("pruned data beyond its retention", "what", g.What, "count", g.Count, "bytes", g.Bytes)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
