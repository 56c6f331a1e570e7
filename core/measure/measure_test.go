package measure_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/measure"
)

// at is a time of the third of November 2026, a Tuesday, and days and hours later.
func at(days, hours int) time.Time {
	return time.Date(2026, 11, 3+days, hours, 0, 0, 0, time.UTC)
}

func ExampleOf() {
	passages := []measure.Passage{
		{"live", 1, delivery.Settled, at(0, 10), at(0, 8)},
		{"live", 2, delivery.RolledBack, at(1, 9), at(1, 8)},
		{"live", 1, delivery.Settled, at(1, 10), at(0, 8)}, // again, which is no delivery
		{"live", 3, delivery.Settled, at(7, 12), at(7, 8)},
	}
	s := measure.Of("live", passages, at(8, 0), 2)
	fmt.Println(s.Lead, s.PerWeek, s.Restore)
	fmt.Printf("%.2f\n", s.ChangeFailureRate)
	fmt.Println(len(s.Weeks[0].Delivered), len(s.Weeks[0].Failed), len(s.Weeks[1].Delivered))
	// Output:
	// 3h0m0s 1 1h0m0s
	// 0.33
	// 1 1 1
}

// Without weeks or arrivals there are no figures, and what happens after now does not count.
func TestWithoutData(t *testing.T) {
	late := []measure.Passage{{"live", 1, delivery.Failed, at(0, 8), at(0, 9)}, {"live", 2, delivery.Settled, at(2, 8), at(2, 7)}}
	for _, tt := range []struct {
		passages []measure.Passage
		weeks    int
		rate     float64
	}{{nil, 4, 0}, {late, 0, 0}, {late, -3, 0}, {late, 1, 1}, {late[1:], 1, 0}} {
		s := measure.Of("live", tt.passages, at(1, 0), tt.weeks)
		if len(s.Weeks) != max(0, tt.weeks) || s.ChangeFailureRate != tt.rate || s.PerWeek != 0 || s.Lead != 0 || s.Restore != 0 {
			t.Errorf("%v over %d weeks: %+v", tt.passages, tt.weeks, s)
		}
		for _, w := range s.Weeks {
			for _, f := range w.Failed {
				if !f.Until.IsZero() {
					t.Errorf("recovered after now: %+v", f)
				}
			}
		}
	}
	early := measure.Of("live", []measure.Passage{{"live", 1, delivery.Settled, at(0, 8), at(0, 9)}}, at(1, 0), 1)
	if early.Lead != 0 {
		t.Errorf("settled before its push: %s", early.Lead)
	}
}

func TestMonday(t *testing.T) {
	for day, want := range map[time.Time]int{at(0, 5): 2, at(-1, 0): 2, at(-2, 23): 26, at(5, 23): 2, at(6, 0): 9} {
		if got := measure.Monday(day); got.Day() != want || got.Weekday() != time.Monday || got.Hour() != 0 {
			t.Errorf("%s: %s", day, got)
		}
	}
}

// With any events, each first settling and each failure is in exactly one week, and the failed share is from 0
// to 1.
func TestWeeks(t *testing.T) {
	states := []delivery.State{delivery.Settled, delivery.RolledBack, delivery.Failed, delivery.Waiting, delivery.Superseded}
	for seed := range uint64(200) {
		rng := rand.New(rand.NewPCG(seed, 3))
		var passages []measure.Passage
		when, settled, failed := at(-60, 0), map[int]bool{}, 0
		now := at(0, 0)
		first := measure.Monday(now).Add(-4 * 7 * 24 * time.Hour)
		delivered := 0
		for range rng.IntN(60) {
			when = when.Add(time.Duration(rng.IntN(48)) * time.Hour)
			p := measure.Passage{Stage: []string{"live", "trial"}[rng.IntN(2)], Version: rng.IntN(9), State: states[rng.IntN(len(states))],
				At: when, Pushed: when.Add(-time.Hour)}
			passages = append(passages, p)
			if p.Stage != "live" || p.At.After(now) {
				continue
			}
			in := !p.At.Before(first)
			switch {
			case p.State == delivery.Settled && !settled[p.Version]:
				settled[p.Version] = true
				if in {
					delivered++
				}
			case in && (p.State == delivery.RolledBack || p.State == delivery.Failed):
				failed++
			}
		}
		s := measure.Of("live", passages, now, 5)
		for _, w := range s.Weeks {
			if want := time.Duration(min(1, len(w.Delivered))) * time.Hour; w.Lead != want {
				t.Fatalf("seed %d: %d came in the week of %s, in the middle after %s", seed, len(w.Delivered), w.Begin, w.Lead)
			}
			for _, d := range w.Delivered {
				delivered--
				if d.At.Before(w.Begin) || !d.At.Before(w.Begin.AddDate(0, 0, 7)) || d.Lead != time.Hour {
					t.Fatalf("seed %d: %+v in the week of %s", seed, d, w.Begin)
				}
			}
			for _, f := range w.Failed {
				failed--
				if f.At.Before(w.Begin) || !f.At.Before(w.Begin.AddDate(0, 0, 7)) || !f.Until.IsZero() && f.Until.Before(f.At) {
					t.Fatalf("seed %d: %+v in the week of %s", seed, f, w.Begin)
				}
			}
		}
		if delivered != 0 || failed != 0 || s.ChangeFailureRate < 0 || s.ChangeFailureRate > 1 || len(s.Weeks) != 5 {
			t.Fatalf("seed %d: %d and %d are missing: %+v", seed, delivered, failed, s)
		}
	}
}
