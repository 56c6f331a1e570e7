package judge

import (
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"rudmar/core/metrics"
)

var shifts = flag.Int("shifts", 60, "how many shifts TestSimulatedShifts simulates of each kind")

func sum(calls, errors int, ms ...float64) metrics.Sum {
	s := metrics.Sum{Invocations: calls, Errors: errors, Durations: metrics.Histogram{}, MaxMs: 1e6}
	for _, d := range ms {
		s.Durations[metrics.Bucket(d)] += calls / len(ms)
	}
	return s
}

func ExampleJudge() {
	v := Judge([]Function{{Name: "warn", New: sum(200, 14), Old: sum(1800, 17)}}, nil)
	fmt.Println(v.Outcome)
	fmt.Println(v.Reason)
	// Output:
	// roll-back
	// warn: 14 of 200 invocations failed, and 17 of 1800 of the version before; probability of regression over 0.9999, rolls back from 0.987
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
	fastEnough := slow(100, 50)
	fastEnough.Objective.P95Under = time.Second
	for _, tt := range []struct {
		name string
		f    Function
		last int
		want Outcome
		says string
	}{
		{"nobody calls", Function{}, 0, On, "by time and by its cases"},
		{"calls come to the old one alone", Function{Old: sum(10, 0)}, 0, Wait, "not invoked yet"},
		{"few calls", Function{New: sum(5, 0), Old: sum(50, 0)}, 0, Wait, "judged from 20 invocations"},
		{"few calls that fail", Function{New: sum(5, 5), Old: sum(50, 0)}, 0, Wait, "5 of 5 invocations failed"},
		{"alike", Function{New: sum(100, 1), Old: sum(900, 9)}, 0, On, "no regression detected"},
		{"one error of few", Function{New: sum(20, 1), Old: sum(180, 0), Before: sum(5000, 20)}, 0, On, "no regression"},
		{"worse", Function{New: sum(100, 12), Old: sum(900, 9)}, 0, Back, "12 of 100 invocations failed"},
		{"worse, looked at already", Function{New: sum(100, 12), Old: sum(900, 9)}, 90, On, "no regression"},
		{"better", Function{New: sum(100, 0), Old: sum(900, 90)}, 0, On, "no regression"},
		{"worse, and good enough", Function{New: sum(100, 12), Old: sum(900, 9), Objective: Objective{ErrorsUnder: 0.3}}, 0, On,
			"no regression"},
		{"all fail in both", Function{New: sum(100, 100), Old: sum(900, 900)}, 0, On, "no regression"},
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
	good, bad := Function{Name: "a", New: sum(500, 5), Old: sum(500, 5)}, Function{Name: "b", New: sum(500, 90), Old: sum(500, 5)}
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

// The probability of being worse is held against drawing both rates by chance.
func TestErrorTestByDrawing(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 7))
	gamma := func(shape float64) float64 { // Marsaglia and Tsang (2000), for shape >= 1
		d := shape - 1.0/3
		for {
			x := rng.NormFloat64()
			v := math.Pow(1+x/math.Sqrt(9*d), 3)
			if v > 0 && math.Log(rng.Float64()) < x*x/2+d-d*v+d*math.Log(v) {
				return d * v
			}
		}
	}
	for _, tt := range []struct{ n, e, m, f int }{{100, 5, 900, 9}, {50, 2, 50, 1}, {400, 20, 400, 4}, {30, 3, 200, 20}} {
		a, b := rateOf(float64(tt.n), float64(tt.e)), rateOf(float64(tt.m), float64(tt.f))
		over := 0
		const draws = 60_000
		for range draws {
			x, y := gamma(a.errors), gamma(b.errors)
			if x/(x+gamma(a.rest)) > y/(y+gamma(b.rest))+margin {
				over++
			}
		}
		if got, drawn := worse(a, b, margin, 0), float64(over)/draws; math.Abs(got-drawn) > 0.01 {
			t.Errorf("%+v: %.4f, and drawn %.4f", tt, got, drawn)
		}
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
		if got, shuffled := slower([]Minute{{a, b}}), float64(more)/rounds; math.Abs(got-shuffled) > 0.025 {
			t.Errorf("%.2f times as long: %.4f, and shuffled %.4f", shift, got, shuffled)
		}
	}
	if got := slower([]Minute{{metrics.Histogram{5: 10}, metrics.Histogram{5: 20}}}); got != 1 {
		t.Errorf("all alike: %v", got)
	}
}

// With durations that change from minute to minute, and the invocations that a minute brings, equal revisions
// are not rolled back, and one that takes half as long again nearly always is.
func TestSimulatedDurations(t *testing.T) {
	for _, tt := range []struct{ times, atLeast, under float64 }{{1, 0, 0.05}, {1.6, 0.9, 1.1}} {
		rng := rand.New(rand.NewPCG(23, 5))
		back := 0
		for range *shifts {
			f := Function{Name: "warn", New: sum(0, 0), Old: sum(0, 0)}
			last := map[string]int{}
			for range 30 {
				minute, calls := 20*math.Exp(rng.NormFloat64()), 20+rng.IntN(200)
				m := Minute{New: metrics.Histogram{}, Old: metrics.Histogram{}}
				for range calls {
					ms := minute * math.Exp(rng.NormFloat64()/3)
					if rng.Float64() < 0.1 {
						f.New.Invocations++
						m.New[metrics.Bucket(ms*tt.times)]++
					} else {
						f.Old.Invocations++
						m.Old[metrics.Bucket(ms)]++
					}
				}
				f.Minutes = append(f.Minutes, m)
				if Judge([]Function{f}, last).Outcome == Back {
					back++
					break
				}
				if Due(f.New.Invocations, last["warn"]) {
					last["warn"] = f.New.Invocations
				}
			}
		}
		part := float64(back) / float64(*shifts)
		t.Logf("%.1f times as long: %d of %d go back", tt.times, back, *shifts)
		if part < tt.atLeast || part >= tt.under {
			t.Errorf("%.1f times as long: %.3f go back", tt.times, part)
		}
	}
}

// shiftByChance simulates a shift: random invocations of both revisions, the new one with its share and failure
// probability. It returns the number of the new one's invocations at the rollback; 0 without one.
func shiftByChance(rng *rand.Rand, share, fails float64, most int) int {
	const oldFails = 0.01
	f := Function{Name: "warn", New: sum(0, 0), Old: sum(0, 0), Before: sum(1000, 0)}
	for range f.Before.Invocations {
		if rng.Float64() < oldFails {
			f.Before.Errors++
		}
	}
	last := map[string]int{}
	for f.New.Invocations < most {
		s, p := &f.Old, oldFails
		if rng.Float64() < share {
			s, p = &f.New, fails
		}
		s.Invocations++
		if rng.Float64() < p {
			s.Errors++
		}
		if s != &f.New || !Due(f.New.Invocations, last["warn"]) {
			continue
		}
		if Judge([]Function{f}, last).Outcome == Back {
			return f.New.Invocations
		}
		last["warn"] = f.New.Invocations
	}
	return 0
}

// Equal revisions are seldom rolled back, and bad ones nearly always, soon.
func TestSimulatedShifts(t *testing.T) {
	for _, tt := range []struct {
		share, fails   float64
		most           int
		atLeast, under float64
	}{
		{0.1, 0.01, 3000, 0, 0.05}, {0.5, 0.01, 3000, 0, 0.05}, // the figures of docs/judge.md need -shifts 3000
		{0.1, 0.05, 400, 0.88, 1.1}, {0.5, 0.05, 400, 0.8, 1.1},
	} {
		rng := rand.New(rand.NewPCG(11, uint64(tt.share*100)))
		back := 0
		for range *shifts {
			if shiftByChance(rng, tt.share, tt.fails, tt.most) > 0 {
				back++
			}
		}
		part := float64(back) / float64(*shifts)
		t.Logf("share %.0f %%, fails %.0f %%: %d of %d go back within %d calls", tt.share*100, tt.fails*100, back, *shifts, tt.most)
		if part < tt.atLeast || part >= tt.under {
			t.Errorf("share %.1f, fails %.2f: %.3f go back", tt.share, tt.fails, part)
		}
	}
}
