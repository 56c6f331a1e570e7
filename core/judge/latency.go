package judge

import (
	"maps"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"

	"rudmar/core/figures"
)

// slower gives the probability of durations as long as the new ones, or longer, if both
// came from one distribution: the one-sided rank-sum test of Mann and Whitney (1947),
// by its normal approximation with the correction for ties, which a histogram's
// buckets are. 1 where either has no calls.
func slower(new, old figures.Histogram) float64 {
	n, m := float64(new.Count()), float64(old.Count())
	if n == 0 || m == 0 {
		return 1
	}
	all := maps.Clone(old)
	all.Add(new)
	below, u, ties := 0.0, 0.0, 0.0 // below counts the old ones in lower buckets
	for _, k := range slices.Sorted(maps.Keys(all)) {
		u += float64(new[k]) * (below + float64(old[k])/2)
		below += float64(old[k])
		t := float64(all[k])
		ties += t*t*t - t
	}
	total := n + m
	variance := n * m / 12 * (total + 1 - ties/(total*(total-1)))
	if variance <= 0 {
		return 1 // all are alike
	}
	return distuv.UnitNormal.Survival((u - n*m/2 - 0.5) / math.Sqrt(variance))
}
