package judge

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"rudmar/core/metrics"
)

func sum(calls, errors int, ms ...float64) metrics.Sum {
	s := metrics.Sum{Invocations: calls, Errors: errors, Durations: metrics.Histogram{}, MaxMs: 1e6}
	for _, d := range ms {
		s.Durations[metrics.Bucket(d)] += calls / len(ms)
	}
	return s
}

// errorsOf is a function with invocations and errors of both in one minute.
func errorsOf(calls, errors, before, failed int) Function {
	f := Function{Name: "warn", New: sum(calls, errors), Old: sum(before, failed)}
	f.Minutes = []Minute{{At: 60_000, Strata: []Errors{{calls, errors, before, failed}}}}
	return f
}

func ExampleJudge() {
	v := Judge([]Function{errorsOf(200, 14, 1800, 17)}, nil)
	fmt.Println(v.Outcome)
	fmt.Println(v.Reason)
	// Output:
	// roll-back
	// warn: 14 of 200 invocations failed, and 17 of 1800 of the version before; if both were equal, the probability of this in the same minutes would be 3.7e-07, rolls back below 0.0008
}

// took is a minute with a number of invocations of both, and their duration.
func took(n int, ms float64, m int, before float64) Minute {
	spread := func(calls int, ms float64) metrics.Histogram {
		h := metrics.Histogram{}
		for i := range calls {
			h[metrics.Bucket(ms*(0.8+0.4*float64(i%10)/10))]++
		}
		return h
	}
	return Minute{New: spread(n, ms), Old: spread(m, before)}
}

func slow(ms, before float64) Function {
	return Function{New: sum(100, 0), Old: sum(900, 0), Minutes: []Minute{took(50, ms, 450, before), took(50, ms, 450, before)}}
}

func TestLook(t *testing.T) {
	goodEnough := errorsOf(100, 12, 900, 9)
	goodEnough.Objective.ErrorsUnder = 0.3
	fastEnough := slow(100, 50)
	fastEnough.Objective.P95Under = time.Second
	for _, tt := range []struct {
		name string
		f    Function
		last int
		want Outcome
		says string
	}{
		{"nobody calls", Function{}, 0, On, "no changed function was invoked"},
		{"calls come to the old one alone", Function{Old: sum(10, 0)}, 0, Wait, "not invoked yet"},
		{"few calls", Function{New: sum(5, 0), Old: sum(50, 0)}, 0, Wait, "judged from 20 invocations"},
		{"few calls that fail", Function{New: sum(5, 5), Old: sum(50, 0)}, 0, Wait, "5 of 5 invocations failed"},
		{"alike", errorsOf(100, 1, 900, 9), 0, On, "no regression detected"},
		{"one error of few", errorsOf(20, 1, 180, 0), 0, On, "no regression"},
		{"unequal shares of unequal minutes", Function{New: sum(900, 156), Old: sum(3300, 180), Minutes: []Minute{ // equal in each minute
			{At: 0, Strata: []Errors{{300, 3, 2700, 27}}}, {At: 60_000, Strata: []Errors{{600, 153, 600, 153}}}}}, 0, On, "no regression"},
		{"worse by one trigger of two", Function{New: sum(200, 12), Old: sum(1800, 9), Minutes: []Minute{
			{At: 0, Strata: []Errors{{100, 0, 900, 0}, {100, 12, 900, 9}}}}}, 0, Back, "12 of 200"},
		{"in minutes of its own", Function{New: sum(100, 50), Old: sum(900, 0), Minutes: []Minute{
			{At: 0, Strata: []Errors{{100, 50, 0, 0}}}, {At: 60_000, Strata: []Errors{{0, 0, 900, 0}}}}}, 0, On, "no regression"},
		{"worse", errorsOf(100, 12, 900, 9), 0, Back, "12 of 100 invocations failed"},
		{"worse, looked at already", errorsOf(100, 12, 900, 9), 90, On, "no regression"},
		{"better", errorsOf(100, 0, 900, 90), 0, On, "no regression"},
		{"worse, and good enough", goodEnough, 0, On, "no regression"},
		{"all fail in both", errorsOf(100, 100, 900, 900), 0, On, "no regression"},
		{"slower", slow(100, 50), 0, Back, "for the version before in the same minutes"},
		{"slower by little", slow(60, 50), 0, On, "no regression"},
		{"slower by less than can be told", slow(4, 1), 0, On, "no regression"},
		{"slower, and fast enough", fastEnough, 0, On, "no regression"},
		{"slow minutes are slow for both", Function{New: sum(120, 0), Old: sum(1000, 0), Minutes: []Minute{
			took(20, 5, 980, 5), took(100, 80, 20, 80)}}, 0, On, "no regression"},
	} {
		tt.f.Name = "warn"
		got := Judge([]Function{tt.f}, map[string]int{"warn": tt.last})
		if got.Outcome != tt.want || !strings.Contains(got.Reason, tt.says) {
			t.Errorf("%s: %s, %s", tt.name, got.Outcome, got.Reason)
		}
	}
	// One regression rolls back all, in any position; a step ends early only if all functions allow it.
	good, bad := errorsOf(900, 3, 3000, 10), errorsOf(500, 90, 500, 5)
	good.Name, bad.Name = "a", "b"
	idle := Function{Name: "c"}
	for _, tt := range []struct {
		functions []Function
		want      Outcome
		early     bool
	}{
		{[]Function{good, idle}, On, true}, {[]Function{good, bad}, Back, false}, {[]Function{bad, good}, Back, false},
		{[]Function{idle}, On, false}, {[]Function{good, {Name: "d", New: sum(100, 0), Old: sum(100, 0)}}, On, false},
	} {
		if v := Judge(tt.functions, nil); v.Outcome != tt.want || v.Early != tt.early {
			t.Errorf("%+v", v)
		}
	}
}

func TestDue(t *testing.T) {
	for _, tt := range []struct {
		calls, last int
		want        bool
	}{{0, 0, false}, {19, 0, false}, {20, 0, true}, {24, 20, false}, {25, 20, true}, {499, 400, false}, {500, 400, true}} {
		if got := Due(tt.calls, tt.last); got != tt.want {
			t.Errorf("%d after %d: %v", tt.calls, tt.last, got)
		}
	}
}

// The test of errors is held against shuffling the errors within each minute.
func TestErrorTestByShuffling(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	for _, strata := range [][]Errors{
		{{50, 4, 450, 9}, {300, 12, 300, 6}}, {{20, 2, 20, 0}}, {{100, 3, 900, 9}, {10, 5, 90, 45}, {0, 0, 100, 3}},
		{{400, 230, 400, 200}, {300, 60, 300, 50}}, // more errors than are computed exactly
	} {
		observed := 0
		for _, e := range strata {
			if e.compared() {
				observed += e.NewErrors
			}
		}
		const rounds = 20_000
		more := 0
		for range rounds {
			drawn := 0
			for _, e := range strata {
				if !e.compared() {
					continue
				}
				left, calls := e.NewErrors+e.OldErrors, e.NewCalls+e.OldCalls
				for i := range e.NewCalls { // each invocation of the new one fails with the share of errors that is left
					if rng.IntN(calls-i) < left {
						drawn++
						left--
					}
				}
			}
			if drawn >= observed {
				more++
			}
		}
		if got, shuffled := chanceOf(strata), float64(more)/rounds; math.Abs(got-shuffled) > 0.012 {
			t.Errorf("%v: %.4f, and shuffled %.4f", strata, got, shuffled)
		}
	}
	if got := chanceOf([]Errors{{100, 100, 900, 900}}); got < 0.99 {
		t.Errorf("all fail in both: %v", got)
	}
}

// The rank test is held against counting all pairs, and shuffling them.
func TestRankTestByShuffling(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 3))
	for _, shift := range []float64{1, 1.15, 1.4} {
		var all []float64
		a, b := metrics.Histogram{}, metrics.Histogram{}
		for i := range 120 {
			ms := 20 * math.Exp(rng.NormFloat64()/2)
			if i < 40 {
				ms *= shift
				a[metrics.Bucket(ms)]++
			} else {
				b[metrics.Bucket(ms)]++
			}
			all = append(all, float64(metrics.Bucket(ms)))
		}
		wins := func(of []float64) float64 {
			u := 0.0
			for _, x := range of[:40] {
				for _, y := range of[40:] {
					if x > y {
						u++
					} else if x == y {
						u += 0.5
					}
				}
			}
			return u
		}
		seen, more := wins(all), 0
		const rounds = 3000
		for range rounds {
			rng.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
			if wins(all) >= seen {
				more++
			}
		}
		if got, shuffled := slower([]Minute{{New: a, Old: b}}, 1), float64(more)/rounds; math.Abs(got-shuffled) > 0.025 {
			t.Errorf("%.2f times as long: %.4f, and shuffled %.4f", shift, got, shuffled)
		}
	}
	if got := slower([]Minute{{New: metrics.Histogram{5: 10}, Old: metrics.Histogram{5: 20}}}, 1); got != 1 {
		t.Errorf("all alike: %v", got)
	}
}

// A minute in which both got worse is named; one in which only one did is not.
func TestDisturbance(t *testing.T) {
	minutes := func(new, old [4]int) []Minute {
		var out []Minute
		for i := range new {
			out = append(out, Minute{At: int64(i), Strata: []Errors{{60, new[i], 540, old[i]}}})
		}
		return out
	}
	for _, tt := range []struct {
		new, old [4]int
		want     int64
	}{
		{[4]int{1, 0, 30, 1}, [4]int{5, 6, 270, 4}, 2}, {[4]int{1, 0, 30, 1}, [4]int{5, 6, 5, 4}, 0}, {[4]int{1, 0, 1, 1}, [4]int{5, 6, 270, 4}, 0},
		{[4]int{1, 1, 1, 1}, [4]int{5, 6, 5, 4}, 0}, {[4]int{1, 10, 9, 12}, [4]int{5, 90, 95, 88}, 3},
	} {
		if got := disturbance(minutes(tt.new, tt.old)); got != tt.want {
			t.Errorf("%v %v: %d", tt.new, tt.old, got)
		}
	}
}
