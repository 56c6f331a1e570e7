package judge

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// BenchmarkJudge reports the percentage of traffic shifts that are rolled back, for each disturbance and regression of
// docs/judge.md, and the median of the new revision's invocations at the rollback.
func BenchmarkJudge(b *testing.B) {
	shifts := 2000
	if testing.Short() {
		shifts = 20
	}
	for i, w := range weathers() {
		b.Run(w.name, func(b *testing.B) {
			for b.Loop() {
				rng := rand.New(rand.NewPCG(23, uint64(i)))
				var at []int
				for range shifts {
					if n := w.shift(rng); n > 0 {
						at = append(at, n)
					}
				}
				b.ReportMetric(100*float64(len(at))/float64(shifts), "%-rolled-back")
				if len(at) > 0 {
					slices.Sort(at)
					b.ReportMetric(float64(at[len(at)/2]), "invocations-to-rollback")
				}
			}
		})
	}
}
