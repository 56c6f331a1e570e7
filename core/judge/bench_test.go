package judge_test

import (
	"fmt"
	"slices"
	"testing"
	"time"
)

// BenchmarkJudge reports the percentage of traffic shifts that are rolled back, by both generators, for each scenario of
// docs/judge.md, and the median of the new revision's invocations at the rollback.
func BenchmarkJudge(b *testing.B) {
	shifts := 2000
	if testing.Short() {
		shifts = 4
	}
	for _, s := range scenarios() {
		b.Run(s.name, func(b *testing.B) {
			for b.Loop() {
				at := rolledBack(byInvocation, s, shifts, 23)
				b.ReportMetric(100*float64(len(at))/float64(shifts), "%-rolled-back")
				second := rolledBack(byArrivals, s, shifts, 23)
				b.ReportMetric(100*float64(len(second))/float64(shifts), "%-by-arrivals")
				if len(at) > 0 {
					slices.Sort(at)
					b.ReportMetric(float64(at[len(at)/2]), "invocations-to-rollback")
				}
			}
		})
	}
}

// BenchmarkDetection reports the smallest regressions that are rolled back in 90% of the shifts within a number of
// invocations of the new revision: an error rate in percent after 1%, and a ratio of durations. 0 for none that it tries.
func BenchmarkDetection(b *testing.B) {
	shifts := 500
	if testing.Short() {
		shifts = 2
	}
	detected := func(of behavior, within int) bool {
		s := scenario{new: always(of), old: always(behavior{0.01, 1, 0}), perMinute: 600, every: 10 * time.Minute, least: 50, within: within}
		return float64(len(rolledBack(byInvocation, s, shifts, 5))) >= 0.9*float64(shifts)
	}
	for _, within := range []int{100, 200, 400, 800, 1600, 3200} {
		b.Run(fmt.Sprint(within, " invocations"), func(b *testing.B) {
			for b.Loop() {
				least := func(list []float64, of func(float64) behavior) float64 {
					for _, x := range list {
						if detected(of(x), within) {
							return x
						}
					}
					return 0
				}
				b.ReportMetric(least([]float64{2, 2.5, 3, 4, 5, 6, 8, 10, 12, 15, 20}, func(x float64) behavior { return behavior{x / 100, 1, 0} }),
					"%-errors-detected")
				b.ReportMetric(least([]float64{1.3, 1.35, 1.4, 1.5, 1.6, 1.8, 2, 2.5, 3}, func(x float64) behavior { return behavior{0.01, x, 0} }),
					"x-durations-detected")
			}
		})
	}
}
