package engine_test

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/plan"
	"rudmar/engine"
	"rudmar/engine/deliver"
	"rudmar/engine/store"
	"rudmar/platform"
)

// sorts returns a service of so many functions, each with a table and a route.
func sorts(n int) map[string]string {
	files := map[string]string{"rudmar.yaml": "rudmar: 1\nservice: frostline\nowner: o\nstages: [{stage: trial, target: local/north, run_cases: none, enter: {when: push}}]\n"}
	for i := range n {
		name := fmt.Sprintf("f%d", i)
		files[name+"/function.yaml"] = fn(name, fmt.Sprintf("permissions: [{allow: [read], resource: tables/t%d}]\n", i))
		files[name+"/main.py"] = fmt.Sprintf("def run(call): return %d\n", i)
	}
	return files
}

// took pushes a service, and returns the plan of its deployment and its duration.
func took(r *rig, files map[string]string) (*plan.Plan, time.Duration) {
	r.Helper()
	r.push(files)
	d := r.reaches(1, "trial", delivery.Settled)
	one, err := r.Store.Deployment(r.Context(), d.Deployments[0])
	must(r, err)
	kept, err := r.Store.Plan(r.Context(), one.Plan)
	must(r, err)
	return kept.Plan, one.EndedAt.Sub(one.StartedAt)
}

// longest returns how many steps the longest way through a plan has.
func longest(p *plan.Plan) int {
	ways := make([]int, len(p.Steps))
	most := 0
	var way func(i int) int
	way = func(i int) int {
		if ways[i] == 0 {
			ways[i] = 1
			for _, need := range p.Steps[i].Needs {
				ways[i] = max(ways[i], 1+way(need))
			}
		}
		return ways[i]
	}
	for i := range p.Steps {
		most = max(most, way(i))
	}
	return most
}

// size returns the size of a benchmark, smaller in a short run.
func size(full, short int) int {
	if testing.Short() {
		return short
	}
	return full
}

// BenchmarkSlowPlatform deploys about 500 steps to a platform that takes 200 ms for each, and reports the time
// relative to the steps themselves: the longest path, or all of them in parallel, whichever is longer.
func BenchmarkSlowPlatform(b *testing.B) {
	const each = 200 * time.Millisecond
	for b.Loop() {
		r := newRig(b)
		r.spoilWith(func(w http.ResponseWriter, q *http.Request, next http.Handler) {
			if address(q) != "" && q.Method != http.MethodGet {
				time.Sleep(each) // it is the platform's time that is measured against
			}
			next.ServeHTTP(w, q)
		})
		p, took := took(r, sorts(size(56, 4)))
		least := time.Duration(max(longest(p), (len(p.Steps)+plan.Parallelism-1)/plan.Parallelism)) * each
		b.ReportMetric(float64(took)/float64(least), "x-critical-path")
		b.ReportMetric(float64(len(p.Steps)), "steps")
	}
}

// spent is a log that records the duration of deployments, and of their journal.
type spent struct {
	slog.Handler
	took, journal atomic.Int64
}

func (s *spent) Enabled(context.Context, slog.Level) bool { return true }

func (s *spent) Handle(_ context.Context, r slog.Record) error {
	r.Attrs(func(a slog.Attr) bool {
		switch a.Key {
		case "took":
			s.took.Store(int64(a.Value.Duration()))
		case "journal":
			s.journal.Store(int64(a.Value.Duration()))
		}
		return true
	})
	return nil
}

// BenchmarkJournal reports the cost of the journal per step: its start and its outcome with the changed record,
// on a database of its own; and its share of a deployment of 1,000 functions to the local platform, which
// writes several steps together.
func BenchmarkJournal(b *testing.B) {
	for b.Loop() {
		log := &spent{Handler: slog.DiscardHandler}
		r := newRigWith(b, func(o *engine.Options) { o.Log = slog.New(log) })
		p, _ := took(r, sorts(size(1000, 20)))
		s, err := store.Open(b.Context(), b.TempDir(), time.Now)
		must(b, err)
		written, err := journal(b, s, p)
		must(b, err)
		must(b, s.Close())
		b.ReportMetric(float64(written.Microseconds())/1000/float64(len(p.Steps)), "ms/step")
		b.ReportMetric(100*float64(log.journal.Load())/float64(log.took.Load()), "%-of-deployment")
		b.ReportMetric(float64(log.took.Load())/1e9, "s-deployment")
	}
}

// journal records the steps of a plan one after the other, as a deployment does.
func journal(b *testing.B, s *store.Store, p *plan.Plan) (time.Duration, error) {
	ctx := b.Context()
	if err := s.AddRepository(ctx, "brambleford", "wren"); err != nil {
		return 0, err
	}
	if err := s.AddService(ctx, store.Service{Name: "frostline", Repository: "brambleford"}, true, "wren"); err != nil {
		return 0, err
	}
	planID, err := s.AddPlan(ctx, "wren", p)
	if err != nil {
		return 0, err
	}
	id, err := s.AddDeployment(ctx, store.Begin{PlanID: planID, Plan: p, Person: "wren"})
	if err != nil {
		return 0, err
	}
	lease, err := s.TakeLease(ctx, p.Base.Place, "bench", time.Hour)
	if err != nil {
		return 0, err
	}
	begun := time.Now()
	var ended []store.Outcome
	for i := range p.Steps { // the outcome of a step is written with the start of the next one
		step := &p.Steps[i]
		if _, _, err := s.WriteSteps(ctx, lease, id, ended, []store.Intent{{Step: step, Key: fmt.Sprint("key-", i)}}); err != nil {
			return 0, err
		}
		ended = []store.Outcome{{Step: step, Version: 1}}
	}
	_, _, err = s.WriteSteps(ctx, lease, id, ended, nil)
	return time.Since(begun), err
}

// BenchmarkPush reports the time from a push until the version has settled in the first stage, and the parts
// for building, planning, deploying and testing.
func BenchmarkPush(b *testing.B) {
	for b.Loop() {
		r := newRig(b)
		begun := time.Now()
		r.push(first())
		d := r.reaches(1, "trial", delivery.Settled)
		built, err := r.Store.BuildOf(b.Context(), "frostline", 1)
		must(b, err)
		one, err := r.Store.Deployment(b.Context(), d.Deployments[0])
		must(b, err)
		for _, part := range []struct {
			what     string
			from, to time.Time
		}{
			{"ms-total", begun, d.Since}, {"ms-building", begun, built.EndedAt}, {"ms-planning", built.EndedAt, one.StartedAt},
			{"ms-deploying", one.StartedAt, one.EndedAt}, {"ms-testing", one.EndedAt, d.Since},
		} {
			b.ReportMetric(float64(part.to.Sub(part.from).Milliseconds()), part.what)
		}
	}
}

// BenchmarkBack reports the time from the judge's rollback decision to the last invocation of the bad revision.
func BenchmarkBack(b *testing.B) {
	for b.Loop() {
		r := newRig(b)
		r.push(shifted("10m", firstAnswer))
		r.reaches(1, "trial", delivery.Settled)
		var last atomic.Int64
		ctx, cancel := context.WithCancel(b.Context())
		var group sync.WaitGroup
		for range 4 {
			group.Go(func() {
				for ctx.Err() == nil {
					inv, err := r.platform.Invoke(ctx, platform.Scope{Region: "north", Service: "frostline", Stage: "trial"}, "a",
						"ask", "", map[string]any{}, time.Minute)
					if err == nil && (inv.Error != nil || fmt.Sprint(inv.Response) == "third") {
						last.Store(time.Now().UnixMilli())
					}
				}
			})
		}
		r.push(shifted("10m", badAnswer))
		var decided time.Time
		r.until("the judge to decide", func() bool {
			v, err := r.Store.Shift(b.Context(), "frostline", 2, "trial")
			if err == nil && v.Back != "" {
				decided = time.Now() // at most one look after the decision
			}
			return !decided.IsZero()
		})
		r.reaches(1, "trial", delivery.Settled)
		cancel()
		group.Wait()
		b.ReportMetric(float64(max(0, last.Load()-decided.UnixMilli())), "ms-to-last-bad-invocation")
	}
}

// BenchmarkRollback reports the time from a person's rollback of 100 functions, in a stage with a traffic shift, to the
// last invocation of the bad version, and to the end of the whole rollback.
func BenchmarkRollback(b *testing.B) {
	const functions = 100
	for b.Loop() {
		r := newRig(b)
		files := func(word string) map[string]string {
			out := map[string]string{"rudmar.yaml": shifted("1m", "")["rudmar.yaml"]}
			for i := range functions {
				name := fmt.Sprintf("f%02d", i)
				out[name+"/function.yaml"], out[name+"/main.py"] = fn(name, ""), fmt.Sprintf("def run(call): return '%s'\n", word)
			}
			return out
		}
		r.push(files("good"))
		r.reaches(1, "trial", delivery.Settled)
		r.push(files("bad"))
		r.until("a shift", func() bool {
			v, err := r.Store.Shift(b.Context(), "frostline", 2, "trial")
			if err == nil && !v.Since.IsZero() {
				_ = r.Line.Steer(b.Context(), "frostline", 2, "trial", deliver.Advance, r.person("wren"), "")
			}
			d, err := r.Store.Delivery(b.Context(), "frostline", 2, "trial")
			return err == nil && d.State == delivery.Settled
		})
		var last atomic.Int64
		ctx, cancel := context.WithCancel(b.Context())
		var group sync.WaitGroup
		for i := range 4 {
			group.Go(func() {
				for n := i; ctx.Err() == nil; n += 4 {
					inv, err := r.platform.Invoke(ctx, platform.Scope{Region: "north", Service: "frostline", Stage: "trial"},
						fmt.Sprintf("f%02d", n%functions), "ask", "", map[string]any{}, time.Minute)
					if err == nil && fmt.Sprint(inv.Response) == "bad" {
						last.Store(time.Now().UnixMilli())
					}
				}
			})
		}
		r.until("the bad version responds", func() bool { return last.Load() > 0 })
		begun := time.Now().UnixMilli()
		must(b, r.Line.RollBackTo(b.Context(), "frostline", 1, "trial", r.say("wren", "trial", 1)))
		d := r.reaches(1, "trial", delivery.Settled)
		cancel()
		group.Wait()
		b.ReportMetric(float64(max(0, last.Load()-begun)), "ms-to-last-bad-invocation")
		b.ReportMetric(float64(d.Since.UnixMilli()-begun), "ms-to-settled")
	}
}
