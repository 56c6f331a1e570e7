package judge_test

import (
	"math"
	"math/rand/v2"
	"time"

	"gonum.org/v1/gonum/stat/distuv"

	"rudmar/core/delivery"
	"rudmar/core/judge"
)

// lookEvery is how often the engine looks at a shift. Looks that change nothing are left out but for every fifteenth.
const lookEvery = 2 * time.Second

// byArrivals simulates counts instead of invocations: between two looks, a Poisson number of invocations arrives at each
// revision, a binomial number of them fails, and durations follow from the quantiles of their distribution.
func byArrivals(s scenario, rng *rand.Rand) int {
	shift, seen := s.shift(), newObserved()
	clock := time.Date(2026, 11, 3, 6, 30, 20, 0, time.UTC) // not at the start of a minute
	start := clock
	shift.Since = clock
	for look := 1; ; look++ {
		clock = clock.Add(lookEvery)
		minute := clock.Sub(start).Minutes()
		bin := (clock.Unix() - start.Unix() + 20) / 60
		for _, isNew := range []bool{true, false} {
			share, how := shift.Share()/100, s.new(minute, shift.Step)
			if !isNew {
				share, how = 1-share, s.old(minute, shift.Step)
			}
			arrived := int(distuv.Poisson{Lambda: s.perMinute * lookEvery.Minutes() * share, Src: rng}.Rand())
			if arrived == 0 {
				continue
			}
			failed := int(distuv.Binomial{N: float64(arrived), P: how.errors, Src: rng}.Rand())
			slow := int(distuv.Binomial{N: float64(arrived), P: how.slow, Src: rng}.Rand())
			took := distuv.LogNormal{Mu: math.Log(median * how.times), Sigma: sigma}
			for i := range arrived {
				ms := took.Quantile(rng.Float64())
				if i < slow {
					ms *= 10
				}
				seen.add(isNew, bin, shift.Step, 1, min(1, max(0, failed-i)), ms)
			}
		}
		if s.within > 0 && seen.New.Invocations > s.within {
			return 0
		}
		if !judge.Due(seen.New.Invocations, seen.looked["warn"]) && look%15 > 0 {
			continue
		}
		functions := []judge.Function{seen.Function}
		shift, _ = shift.Look(functions, seen.looked, clock)
		if shift.Back != "" {
			return seen.New.Invocations
		}
		if shift.Share() == 100 {
			return 0
		}
		if shift.Since.IsZero() {
			shift.Since, shift.From = clock, delivery.CountsOf(functions)
		}
	}
}
