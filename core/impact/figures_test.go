package impact_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strconv"
	"testing"
	"time"

	"rudmar/core/impact"
	"rudmar/core/metrics"
	"rudmar/core/resource"
)

// invoked is one invocation.
type invoked struct {
	ms     float64
	memory int64
}

// Limits, costs and cold starts agree with what a calculation over each single invocation gives.
func TestFiguresByBruteForce(t *testing.T) {
	dice := rand.New(rand.NewPCG(29, 8))
	const over = 6 * time.Hour
	rates := metrics.Rates{Currency: "EUR", PerMillionCalls: "0.40", PerGiBSecond: "0.000017"}
	for range 60 {
		list := make([]invoked, dice.IntN(200))
		sum := metrics.Sum{Durations: metrics.Histogram{}}
		for i := range list {
			list[i] = invoked{math.Exp(dice.NormFloat64() + 3), int64(dice.IntN(200)) << 20}
			sum.Add(metrics.Sum{Invocations: 1, TotalMs: list[i].ms, MaxMs: list[i].ms, MemoryPeak: list[i].memory,
				Durations: metrics.Histogram{metrics.Bucket(list[i].ms): 1}})
		}
		was, is := float64(64<<20*(1+dice.IntN(4))), float64(64<<20*(1+dice.IntN(4)))
		timeout := float64(50 * (1 + dice.IntN(20)))
		of := func(memory float64) []r {
			return []r{{Address: "function/warn", Kind: "function", Function: "warn", Attributes: map[string]any{"memory": memory, "timeout": timeout}}}
		}
		o := impact.Forecast(of(was), of(is), map[string]resource.Change{"function/warn": resource.Update, "pointer/warn": resource.Update},
			impact.Impact{Cold: []string{"warn"}}, impact.Figures{Over: over, Rates: rates, Here: map[string]metrics.Sum{"warn": sum}})

		peak, nearMemory, overMemory, longest := int64(0), false, false, 0.0
		cost := [2]float64{}
		durations := []float64{}
		for _, c := range list {
			peak = max(peak, c.memory)
			nearMemory = nearMemory || float64(c.memory) > 0.9*is
			overMemory = overMemory || float64(c.memory) > is
			longest = max(longest, c.ms)
			durations = append(durations, c.ms)
			for i, memory := range []float64{was, is} {
				cost[i] += 0.40/1e6 + c.ms/1000*memory/(1<<30)*0.000017
			}
		}
		var memory, slow *impact.NearLimit
		for i := range o.Tight {
			if o.Tight[i].What == "memory" {
				memory = &o.Tight[i]
			} else {
				slow = &o.Tight[i]
			}
		}
		if want := peak > 0 && (nearMemory || was != is); (memory != nil) != want || memory != nil && (memory.Seen != float64(peak) || memory.Under != overMemory) {
			t.Fatalf("memory %v of %v after %v: %+v", peak, is, was, memory)
		}
		if slices.Sort(durations); len(durations) > 0 {
			p99 := durations[int(math.Ceil(0.99*float64(len(durations))))-1]
			if p99 > timeout && slow == nil || p99*1.02 < 0.9*timeout && slow != nil {
				t.Fatalf("a p99 of %v and a timeout of %v: %+v", p99, timeout, slow)
			}
		}
		// Thirty days have 120 of these periods.
		if len(o.Costs) != 0 {
			for i, text := range []string{o.Costs[0].Before, o.Costs[0].After} {
				got, err := strconv.ParseFloat(text, 64)
				if text == "under 0.0001" {
					got, err = 0, nil
				}
				if err != nil || math.Abs(got-120*cost[i]) > 1e-4 {
					t.Fatalf("a cost of %s, not %v", text, 120*cost[i])
				}
			}
		}
		if want := was != is && len(list) > 0; len(o.Costs) != 0 != want {
			t.Fatalf("costs: %v", o.Costs)
		}
		// A cold start as long as the longest invocation, at a random time: how many invocations does it meet?
		if len(o.Cold) != min(1, len(list)) {
			t.Fatalf("cold starts: %v", o.Cold)
		}
		if len(list) == 0 {
			continue
		}
		times := make([]float64, len(list))
		for i := range times {
			times[i] = dice.Float64() * float64(over.Milliseconds())
		}
		met, tries := 0.0, 0
		for at := 0.0; at < float64(over.Milliseconds()); at += longest {
			for _, when := range times {
				if when >= at && when < at+longest {
					met++
				}
			}
			tries++
		}
		if got, want := fmt.Sprintf("%.2g", o.Cold[0].Callers), fmt.Sprintf("%.2g", met/float64(tries)); math.Abs(o.Cold[0].Callers-met/float64(tries)) > 0.02*o.Cold[0].Callers {
			t.Fatalf("%s callers wait, not %s", got, want)
		}
		if math.Abs(o.Cold[0].PerHour-float64(len(list))/6) > 1e-6 || o.Cold[0].StartMs != longest {
			t.Fatalf("%+v of %d", o.Cold[0], len(list))
		}
	}
}
