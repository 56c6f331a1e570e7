package engine

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"rudmar/core/manifest"
	"rudmar/engine/build"
	"rudmar/engine/people"
	"rudmar/engine/store"
	"rudmar/platform/api"
)

// What health is judged by.
const (
	leastDisk  = 512 << 20        // bytes that must be free
	stuckAfter = 10 * time.Minute // without progress
	askFor     = 2 * time.Second  // of each kind
)

// Check is one health check.
type Check struct {
	What    string
	Problem string // the problem and the remedy; "" if healthy
	// Warning means that Rudmar works in spite of the problem.
	Warning bool
}

// Fails reports whether Rudmar does not work because of the problem.
func (c Check) Fails() bool { return c.Problem != "" && !c.Warning }

// PlatformHealth is how a platform does.
type PlatformHealth struct {
	Name  string
	Kinds api.Kinds
	Err   error // why it is unreachable; nil if it responds
}

// Unhealthy is a place whose live cannot be seen.
type Unhealthy struct {
	manifest.Place
	Reason string
	Since  time.Time
}

// Health is how Rudmar does.
type Health struct {
	Checks    []Check
	Platforms []PlatformHealth
	Stuck     []store.Stalled
	Sick      []Unhealthy
	Backlogs  []store.Backlog
}

// Serves reports whether Rudmar's own resources are available, regardless of platforms.
func Serves(checks []Check) bool {
	return !slices.ContainsFunc(checks, Check.Fails)
}

// Needs checks Rudmar's own resources, within two seconds: once for all concurrent callers, because it writes.
func (e *Engine) Needs(ctx context.Context) []Check {
	checks, _, _ := e.needing.Do("", func() (any, error) { // there is no error
		return e.needs(context.WithoutCancel(ctx)), nil
	})
	return checks.([]Check)
}

func (e *Engine) needs(ctx context.Context) []Check {
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	database := ""
	if err := e.Store.Beat(ctx); err != nil {
		database = "not writable: " + err.Error()
	}
	out := []Check{{What: "database", Problem: database}, {What: "disk", Problem: e.disk(), Warning: true},
		{What: repositoriesFolder, Problem: e.writable(repositoriesFolder)},
		{What: artifactsFolder, Problem: e.writable(artifactsFolder)}}
	for _, name := range []string{people.KeyFile, build.KeyFile} {
		c := Check{What: name}
		if _, err := os.Stat(filepath.Join(e.dir, name)); err != nil {
			c.Problem = "missing from the data folder; restore it before Rudmar is restarted"
		}
		out = append(out, c)
	}
	return out
}

// writable returns why no file can be written in a folder of the data; "" if one can.
func (e *Engine) writable(folder string) string {
	file := filepath.Join(e.dir, folder, ".health")
	if err := errors.Join(os.WriteFile(file, make([]byte, 4096), 0o600), os.Remove(file)); err != nil {
		return "not writable: " + strings.ReplaceAll(err.Error(), e.dir, "…")
	}
	return ""
}

func (e *Engine) disk() string {
	var s unix.Statfs_t
	if err := unix.Statfs(e.dir, &s); err != nil {
		return "not readable: " + strings.ReplaceAll(err.Error(), e.dir, "…")
	}
	if left := s.Bavail * uint64(s.Bsize); left < leastDisk {
		return fmt.Sprintf("the data folder has %d MiB left; free some space, or shorten the retention", left>>20)
	}
	return ""
}

// Health runs all checks. A platform that does not respond takes two seconds.
func (e *Engine) Health(ctx context.Context) (Health, error) {
	h := Health{Checks: e.Needs(ctx), Platforms: e.platforms(ctx)}
	var err error
	if h.Stuck, err = e.Store.StalledSince(ctx, e.Store.Now().Add(-stuckAfter)); err != nil {
		return h, err
	}
	if h.Backlogs, err = e.Store.Backlogs(ctx); err != nil {
		return h, err
	}
	services, err := e.Store.Services(ctx)
	if err != nil {
		return h, err
	}
	for _, s := range services {
		looks, err := e.Watch.Observations(ctx, s.Name)
		if err != nil {
			return h, err
		}
		for at, look := range looks {
			if look.Error != "" {
				h.Sick = append(h.Sick, Unhealthy{at, look.Error, time.UnixMilli(look.Since)})
			}
		}
	}
	slices.SortFunc(h.Sick, func(a, b Unhealthy) int { return a.Since.Compare(b.Since) })
	return h, nil
}

// platforms checks all platforms concurrently.
func (e *Engine) platforms(ctx context.Context) []PlatformHealth {
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	var out []PlatformHealth
	var mu sync.Mutex
	var group sync.WaitGroup
	for name, client := range e.Planner.Platforms() {
		group.Go(func() {
			kinds, err := client.Kinds(ctx)
			mu.Lock()
			defer mu.Unlock()
			out = append(out, PlatformHealth{name, kinds, err})
		})
	}
	group.Wait()
	slices.SortFunc(out, func(a, b PlatformHealth) int { return strings.Compare(a.Name, b.Name) })
	return out
}
