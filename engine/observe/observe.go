// Package observe observes the actual state: drift from the recorded state, metrics and logs.
package observe

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"rudmar/core/canon"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/resource"
	"rudmar/engine/deploy"
	"rudmar/engine/store"
	"rudmar/platform/api"
)

// Observation is the observed state of a place.
type Observation struct {
	Drift []plan.Drift `json:"drift"`
	// Error is why the actual state could not be read; "" if it was read. Since is the time of the first
	// failure, in Unix milliseconds.
	Error string `json:"error,omitempty"`
	Since int64  `json:"since,omitempty"`
	// Functions are the metrics of the last hour, of the revisions and triggers that are deployed now: a failure of an
	// earlier revision, or of a deleted trigger, is not theirs.
	Functions map[string]Metrics `json:"functions"`
	// Parked counts dead letters, by function.
	DeadLetter map[string]int `json:"deadLetters,omitempty"`
}

// Figures sums up a function's invocations.
type Metrics struct {
	Invocations int     `json:"invocations"`
	Errors      int     `json:"errors"`
	Throttled   int     `json:"throttled"`
	Cold        int     `json:"cold"`
	MeanMs      float64 `json:"meanMs"`
	MaxMs       float64 `json:"maxMs"`
	MemoryPeak  int64   `json:"memoryPeak"`
}

// Watch observes every place at intervals.
type Watch struct {
	store   *store.Store
	planner *deploy.Planner
	log     *slog.Logger
	every   time.Duration
	wake    chan struct{}

	mu       sync.Mutex
	seen     map[manifest.Place]seenDrift // the last detected drift
	deployed map[manifest.Place]deployed
	busy     map[manifest.Place]chan struct{} // closed when the read in progress ends
}

// seenDrift is the last computed drift, valid while nothing changes.
type seenDrift struct {
	stamp string
	at    time.Time
	drift []plan.Drift
}

// lookWhole is the interval of full comparisons of a place without changes: a new version of a platform can
// report more.
const lookWhole = 10 * time.Minute

// Config has the dependencies of a watch.
type Config struct {
	Store   *store.Store
	Planner *deploy.Planner
	Log     *slog.Logger
	Every   time.Duration // between two reads
}

// New creates a watch.
func New(c Config) *Watch {
	return &Watch{store: c.Store, planner: c.Planner, log: c.Log, every: c.Every, wake: make(chan struct{}, 1),
		seen:     map[manifest.Place]seenDrift{},
		deployed: map[manifest.Place]deployed{}, busy: map[manifest.Place]chan struct{}{}}
}

// ObserveSoon wakes the watch.
func (w *Watch) ObserveSoon() {
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

// looking is the time limit of one read of a place.
const looking = 30 * time.Second

// Run observes until the context ends.
func (w *Watch) Run(ctx context.Context) {
	wake, stop := w.store.Listen(store.Deployments)
	defer stop()
	tick := time.NewTicker(w.every)
	defer tick.Stop()
	var group sync.WaitGroup
	defer group.Wait()
	stepped := false // possibly woken by the steps of a deployment
	for {
		if err := w.all(ctx, &group, stepped); err != nil && ctx.Err() == nil {
			w.log.Error("observing the actual state", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			stepped = false
		case <-wake:
			stepped = true
		case <-w.wake:
			stepped = false
		}
	}
}

// all starts reading every place that is not being read: an unresponsive one does not delay others. During a
// deployment a place is read at the usual interval, and once it has ended.
func (w *Watch) all(ctx context.Context, group *sync.WaitGroup, stepped bool) error {
	services, err := w.store.Services(ctx)
	if err != nil {
		return err
	}
	var errs error
	for _, s := range services {
		places, err := w.store.Stages(ctx, s.Name)
		if err == nil {
			var before map[manifest.Place]Observation
			if before, err = w.Observations(ctx, s.Name); err == nil {
				for _, p := range places {
					w.begin(ctx, group, p.Place, before[p.Place], stepped)
				}
			}
		}
		if err != nil {
			errs = errors.Join(errs, store.Missing(err, "service %s", s.Name))
		}
	}
	return errs
}

// begin reads a place, unless it is being read.
func (w *Watch) begin(ctx context.Context, group *sync.WaitGroup, p manifest.Place, before Observation, stepped bool) {
	if _, claimed := w.claim(p); !claimed {
		return
	}
	group.Go(func() {
		defer w.release(p)
		own, cancel := context.WithTimeout(ctx, looking)
		defer cancel()
		if err := w.one(own, p, before, stepped); err != nil && ctx.Err() == nil {
			w.log.Error("observing the actual state", "service", p.Service, "stage", p.Stage, "target", p.Target, "error", err)
		}
	})
}

// claim reserves the read of a place, unless it is being read; then busy is closed when that read ends.
func (w *Watch) claim(p manifest.Place) (busy <-chan struct{}, claimed bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if own, ok := w.busy[p]; ok {
		return own, false
	}
	w.busy[p] = make(chan struct{})
	return nil, true
}

func (w *Watch) release(p manifest.Place) {
	w.mu.Lock()
	defer w.mu.Unlock()
	close(w.busy[p])
	delete(w.busy, p)
}

func (w *Watch) one(ctx context.Context, p manifest.Place, before Observation, stepped bool) error {
	look := Observation{Functions: map[string]Metrics{}}
	busy, err := w.deploying(ctx, p)
	if err != nil || busy && stepped {
		return err
	}
	if !busy {
		if look.Drift, err = w.drift(ctx, p); err == nil {
			var left []plan.IgnoredDrift
			left, err = w.store.IgnoredDrift(ctx, p, w.store.Now())
			look.Drift = plan.Seen(look.Drift, before.Drift, left, w.store.Now())
		}
		if err == nil {
			busy, err = w.deploying(ctx, p) // one may have started during the read
		}
	}
	if busy {
		look.Drift = before.Drift // during a deployment, recorded and actual state differ
		w.forget(p)
	}
	if err == nil {
		err = w.metrics(ctx, p, &look)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		look = Observation{Drift: before.Drift, Functions: before.Functions, DeadLetter: before.DeadLetter,
			Error: err.Error(), Since: before.Since}
		if look.Since == 0 {
			look.Since = w.store.Now().UnixMilli()
		}
	}
	body, err := json.Marshal(look)
	if err != nil {
		return err
	}
	old, err := json.Marshal(before)
	if err != nil || string(old) == string(body) {
		return err
	}
	err = w.store.PutObservation(ctx, store.Observation{Place: p, Body: string(body)},
		!canon.Equal(before.Drift, look.Drift), driftNotices(p, before.Drift, look.Drift)...)
	if err != nil {
		w.forget(p)
	}
	return err
}

// drift compares the actual with the recorded state, if one of them has changed.
func (w *Watch) drift(ctx context.Context, p manifest.Place) ([]plan.Drift, error) {
	stamp, err := w.planner.Stamp(ctx, p) // before the comparison: the next read sees changes during it
	if err != nil {
		return nil, err
	}
	now := w.store.Now()
	w.mu.Lock()
	known := w.seen[p]
	w.mu.Unlock()
	if stamp != "" && known.stamp == stamp && now.Sub(known.at) < lookWhole {
		return known.drift, nil
	}
	drift, err := w.planner.Drift(ctx, p)
	if err == nil {
		w.mu.Lock()
		w.seen[p] = seenDrift{stamp, now, drift}
		w.mu.Unlock()
	}
	return drift, err
}

// forget drops the last comparison of a place: what was observed does not reflect it.
func (w *Watch) forget(p manifest.Place) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.seen, p)
}

func (w *Watch) deploying(ctx context.Context, p manifest.Place) (bool, error) {
	list, err := w.store.RunningDeployments(ctx)
	for _, d := range list {
		if d.Place == p {
			return true, err
		}
	}
	return false, err
}

func (w *Watch) metrics(ctx context.Context, p manifest.Place, look *Observation) error {
	client, scope, err := w.planner.Platform(p)
	if err != nil {
		return err
	}
	minutes, err := client.Metrics(ctx, scope, w.store.Now().Add(-time.Hour))
	if err != nil {
		return err
	}
	current, err := w.current(ctx, p)
	if err != nil {
		return err
	}
	look.Functions = Sum(slices.DeleteFunc(minutes, func(m api.MinuteSum) bool { return !current.has(m, look.Drift) }))
	deadLetters, err := client.Messages(ctx, scope, true)
	if err != nil {
		return err
	}
	for _, m := range deadLetters {
		for _, fn := range m.Functions {
			if look.DeadLetter == nil {
				look.DeadLetter = map[string]int{}
			}
			look.DeadLetter[fn]++
		}
	}
	return nil
}

// deployed has what serves invocations at a place, by the record with a serial.
type deployed struct {
	serial    int64
	revisions map[string]bool // of pointers with a share
	triggers  map[string]bool // function/trigger
}

// has reports whether a sum is of a deployed revision and trigger, or of a revision that got its share outside Rudmar;
// direct invocations have no trigger.
func (d deployed) has(m api.MinuteSum, drift []plan.Drift) bool {
	return (d.revisions[m.Revision] || sharedOutside(m.Revision, drift)) && (m.Trigger == "" || d.triggers[m.Function+"/"+m.Trigger])
}

func sharedOutside(revision string, drift []plan.Drift) bool {
	for _, d := range drift {
		for _, a := range d.Attributes {
			if shares, ok := a.Actual.(map[string]any); ok && a.Name == "shares" && shares[revision] != nil {
				return true
			}
		}
	}
	return false
}

// current returns what is deployed at a place. It is read again only after a change of the record.
func (w *Watch) current(ctx context.Context, p manifest.Place) (deployed, error) {
	stage, err := w.store.Stage(ctx, p)
	if err != nil {
		return deployed{}, err
	}
	w.mu.Lock()
	known, ok := w.deployed[p]
	w.mu.Unlock()
	if ok && known.serial == stage.Serial {
		return known, nil
	}
	record, err := w.store.Record(ctx, p)
	if err != nil {
		return deployed{}, err
	}
	out := deployed{serial: stage.Serial, revisions: map[string]bool{}, triggers: map[string]bool{}}
	for _, r := range record {
		switch r.Kind {
		case resource.Pointer:
			shares, _ := r.Attributes["shares"].(map[string]any)
			for revision := range shares {
				out.revisions[revision] = true
			}
		case resource.Route, resource.Schedule, resource.Subscription:
			_, rest, _ := strings.Cut(r.Address, "/")
			out.triggers[rest] = true
		}
	}
	w.mu.Lock()
	w.deployed[p] = out
	w.mu.Unlock()
	return out, nil
}

// Plus adds figures up.
func (f Metrics) Plus(g Metrics) Metrics {
	return Metrics{
		Invocations: f.Invocations + g.Invocations, Errors: f.Errors + g.Errors,
		Throttled: f.Throttled + g.Throttled, Cold: f.Cold + g.Cold,
		MeanMs: (f.MeanMs*float64(f.Invocations) + g.MeanMs*float64(g.Invocations)) / max(1,
			float64(f.Invocations+g.Invocations)),
		MaxMs: max(f.MaxMs, g.MaxMs), MemoryPeak: max(f.MemoryPeak, g.MemoryPeak),
	}
}

// Sum adds up minutes by function.
func Sum(minutes []api.MinuteSum) map[string]Metrics {
	out := map[string]Metrics{}
	for _, m := range minutes {
		out[m.Function] = out[m.Function].Plus(Metrics{Invocations: m.Invocations, Errors: m.Errors,
			Throttled: m.Throttled, Cold: m.Cold,
			MeanMs: m.TotalMs / max(1, float64(m.Invocations)), MaxMs: m.MaxMs, MemoryPeak: m.MemoryPeak})
	}
	return out
}

// Observations returns the newest observations of a service's places.
func (w *Watch) Observations(ctx context.Context, service string) (map[manifest.Place]Observation, error) {
	rows, err := w.store.Observations(ctx, service)
	if err != nil {
		return nil, err
	}
	out := map[manifest.Place]Observation{}
	for _, r := range rows {
		var look Observation
		if err := json.Unmarshal([]byte(r.Body), &look); err != nil {
			return nil, err
		}
		out[r.Place] = look
	}
	return out, nil
}
