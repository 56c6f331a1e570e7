package build

import (
	"context"
	"errors"
	"strings"
	"sync"
	"time"

	"rudmar/engine/store"
)

// queueEvery is the interval of checks of the queue, besides notifications.
const queueEvery = 2 * time.Second

// longestRest is the maximum pause of a build whose end could not be written.
const longestRest = time.Minute

// atOnce is how many builds run concurrently.
const atOnce = 2

// ErrEnded reports that a build has ended already.
var ErrEnded = errors.New("the build has already ended")

// errCancelled is the cause of the end of a cancelled build's context.
var errCancelled = errors.New("cancelled by a user")

// running is a build running.
type running struct {
	service string
	log     *buildLog
	cancel  context.CancelCauseFunc
}

// buildLog is the log of a running build.
type buildLog struct {
	mu     sync.Mutex
	text   strings.Builder
	change func()
}

// Write adds to the log.
func (l *buildLog) Write(p []byte) (int, error) {
	l.mu.Lock()
	l.text.Write(p)
	l.mu.Unlock()
	l.change()
	return len(p), nil
}

// String returns all of it so far.
func (l *buildLog) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// Run builds queued builds until the context ends: two at a time, those of one service one after another, so
// versions are numbered in the order of their commits. Unfinished builds are built after a restart.
func (b *Builder) Run(ctx context.Context) {
	var group sync.WaitGroup
	defer group.Wait()
	tick := time.NewTicker(queueEvery)
	defer tick.Stop()
	for ctx.Err() == nil {
		queue, err := b.store.QueuedBuilds(ctx)
		if err != nil && ctx.Err() == nil {
			b.log.Error("reading the build queue", "error", err)
		}
		waits := map[string]bool{} // services whose builds wait for an earlier one, so versions keep their order
		for _, next := range queue {
			if waits[next.Service] || b.rests.Resting(next.ID) {
				waits[next.Service] = true
				continue
			}
			own, ok := b.begin(ctx, next)
			if !ok {
				continue
			}
			group.Add(1)
			go func() {
				defer group.Done()
				b.one(own, next)
				b.finish(next.ID)
			}()
		}
		select {
		case <-ctx.Done():
		case <-tick.C:
		case <-b.wake:
		}
	}
}

// begin starts a build, if there is room for it.
func (b *Builder) begin(ctx context.Context, next store.Build) (context.Context, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.running) >= atOnce || b.running[next.ID] != nil || b.rests.Resting(next.ID) {
		return nil, false
	}
	for _, r := range b.running {
		if r.service == next.Service {
			return nil, false
		}
	}
	ctx, cancel := context.WithCancelCause(ctx)
	var told time.Time
	r := &running{service: next.Service, cancel: cancel}
	r.log = &buildLog{change: func() { // readers of the log are notified, not too often
		b.mu.Lock()
		now := time.Now()
		quiet := now.Sub(told) < 200*time.Millisecond
		if !quiet {
			told = now
		}
		b.mu.Unlock()
		if !quiet {
			if err := b.store.Publish(ctx, next.Service, store.TopicBuild,
				map[string]any{"hash": next.Hash, "state": "running", "version": 0}); err != nil && ctx.Err() == nil {
				b.log.Error("publishing a build", "error", err)
			}
		}
	}}
	b.running[next.ID] = r
	return ctx, true
}

func (b *Builder) finish(id int64) {
	b.mu.Lock()
	b.running[id].cancel(nil)
	delete(b.running, id)
	b.mu.Unlock()
	b.nudge()
}

func (b *Builder) nudge() {
	select {
	case b.wake <- struct{}{}:
	default:
	}
}

func (b *Builder) logOf(id int64) *buildLog {
	b.mu.Lock()
	defer b.mu.Unlock()
	if r := b.running[id]; r != nil {
		return r.log
	}
	return nil
}

// Builds returns a service's newest builds; a running one with its log so far.
func (b *Builder) Builds(ctx context.Context, service string, limit int) ([]store.Build, error) {
	list, err := b.store.Builds(ctx, service, limit)
	for i := range list {
		if log := b.logOf(list[i].ID); log != nil && list[i].State == store.BuildQueued {
			list[i].State, list[i].Log = "running", log.String()
		}
	}
	return list, err
}

// Cancel ends a queued or running build.
func (b *Builder) Cancel(ctx context.Context, id int64, person string) error {
	next, err := b.store.Build(ctx, id)
	if err != nil {
		return err
	}
	if next.State != store.BuildQueued {
		return ErrEnded
	}
	b.mu.Lock()
	r := b.running[id]
	b.mu.Unlock()
	if err := b.store.Note(ctx,
		store.Entry{Person: person, Service: next.Service, What: "build cancelled", Text: next.Hash[:8]}); err != nil {
		return err
	}
	if r != nil {
		r.cancel(errCancelled)
		return nil
	}
	next.State, next.Reason = store.BuildCancelled, "cancelled by "+person+" before it started"
	if err = b.store.EndBuild(ctx, next); errors.Is(err, store.ErrMoved) {
		return ErrEnded
	}
	return err
}

// Retry queues a failed or cancelled build again; ErrQueued if it has not ended so.
func (b *Builder) Retry(ctx context.Context, id int64, person string) error {
	if err := b.store.RequeueBuild(ctx, id, person); err != nil {
		return err
	}
	b.rests.Ended(id, nil)
	b.nudge()
	return nil
}

// one executes a build. If its end cannot be written it stays queued, and is built again later.
func (b *Builder) one(own context.Context, next store.Build) {
	log := b.logOf(next.ID)
	_, err := b.build(own, next, log)
	ctx := context.WithoutCancel(own)
	if err != nil {
		next.Log = log.String()
		switch {
		case errors.Is(context.Cause(own), errCancelled):
			next.State, next.Reason = store.BuildCancelled, "cancelled while running"
			err = b.store.EndBuild(ctx, next)
		case own.Err() != nil:
			return // it stays queued and is built after the restart
		case b.authors(err):
			next.State, next.Reason = store.BuildFailed, b.withoutPaths(err)
			b.log.Warn("build failed", "service", next.Service, "commit", next.Hash, "error", err)
			err = b.store.EndBuild(ctx, next)
		default:
			err = errors.Join(err, b.store.PauseBuild(ctx, next, "waiting, will be tried again: "+b.withoutPaths(err)))
		}
	}
	if errors.Is(err, store.ErrMoved) {
		err = nil // it was cancelled before it began
	}
	if err != nil {
		b.log.Error("ending a build; it will be retried", "service", next.Service, "build", next.ID, "error", err)
	}
	b.rests.Ended(next.ID, err)
}
