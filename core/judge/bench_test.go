package judge

import (
	"fmt"
	"math/rand/v2"
	"testing"
)

// lookedAt simulates a shift like shiftByChance, with a number of looks after equal parts of the new revision's
// invocations.
func lookedAt(rng *rand.Rand, share, fails float64, most, looks int) bool {
	f := Function{Name: "warn", New: sum(0, 0), Old: sum(0, 0), Before: sum(1000, 10)}
	last := map[string]int{}
	for f.New.Invocations < most {
		s, p := &f.Old, 0.01
		if rng.Float64() < share {
			s, p = &f.New, fails
		}
		s.Invocations++
		if rng.Float64() < p {
			s.Errors++
		}
		if s != &f.New || f.New.Invocations%(most/looks) != 0 {
			continue
		}
		if Judge([]Function{f}, last).Outcome == Back {
			return true
		}
		last["warn"] = f.New.Invocations
	}
	return false
}

// BenchmarkJudge reports the percentage of traffic shifts that are rolled back within 400
// invocations of the new revision: without a regression, and if errors rise from 1% to 5%, at
// unequal and equal shares, evaluated as in production, five times and twice.
func BenchmarkJudge(b *testing.B) {
	shifts := 1500
	if testing.Short() {
		shifts = 20
	}
	for _, share := range []float64{0.1, 0.5} {
		for _, looks := range []int{0, 5, 2} {
			often := fmt.Sprint(looks, "-evaluations")
			if looks == 0 {
				often = "as-in-production"
			}
			b.Run(fmt.Sprintf("share-%.0f/%s", share*100, often), func(b *testing.B) {
				for b.Loop() {
					rng := rand.New(rand.NewPCG(23, uint64(100*share)))
					count := func(fails float64) float64 {
						back := 0
						for range shifts {
							if looks == 0 && shiftByChance(rng, share, fails, 400) > 0 || looks > 0 && lookedAt(rng, share, fails, 400, looks) {
								back++
							}
						}
						return 100 * float64(back) / float64(shifts)
					}
					b.ReportMetric(count(0.01), "%-rolled-back-without-regression")
					b.ReportMetric(count(0.05), "%-rolled-back-with-regression")
				}
			})
		}
	}
}
