package judge

import (
	"maps"
	"math"
	"slices"

	"gonum.org/v1/gonum/stat/distuv"

	"rudmar/core/metrics"
)

// Minute has the durations of warm invocations of both revisions in one minute, and their errors by trigger and target.
type Minute struct {
	At       int64 // Unix milliseconds of its start
	New, Old metrics.Histogram
	Strata   []Errors
}

// sum returns the errors of a minute.
func (m Minute) sum() (out Errors) {
	for _, e := range m.Strata {
		out.NewCalls, out.NewErrors = out.NewCalls+e.NewCalls, out.NewErrors+e.NewErrors
		out.OldCalls, out.OldErrors = out.OldCalls+e.OldCalls, out.OldErrors+e.OldErrors
	}
	return out
}

// slower returns the probability of durations as long as the new ones, or longer, if in each minute the new ones were a
// ratio times the old ones: the one-sided rank-sum test, stratified by minutes (van Elteren 1960), by its normal
// approximation with the correction for ties, which a histogram's buckets are. A cause that slows all invocations of a
// minute counts against neither. 1 without a minute with invocations of both.
func slower(minutes []Minute, ratio float64) float64 {
	sum, variance := 0.0, 0.0
	for _, m := range minutes {
		above, spread := rankSum(m.New.Divided(ratio), m.Old)
		weight := 1 / float64(m.New.Count()+m.Old.Count()+1)
		sum += weight * above
		variance += weight * weight * spread
	}
	if variance <= 0 {
		return 1 // all are equal, or there are none
	}
	return distuv.UnitNormal.Survival(sum / math.Sqrt(variance))
}

// slowerLimit returns the probability below which all invocations of a revision, of so many, count as too slow.
func slowerLimit(calls int) float64 {
	known := math.Log(float64(calls)/fewTimed) / math.Log(manyTimed/fewTimed)
	return hardlyAllowed * math.Pow(oftenAllowed/hardlyAllowed, min(1, max(0, known)))
}

// rankSum returns by how much Mann and Whitney's U of the new durations (1947) exceeds its expectation under
// equality, and its variance; zero if either has none.
func rankSum(new map[int]float64, old metrics.Histogram) (above, variance float64) {
	n, m := 0.0, float64(old.Count())
	all := make(map[int]float64, len(new)+len(old))
	for k, c := range old {
		all[k] = float64(c)
	}
	for k, c := range new {
		all[k] += c
		n += c
	}
	if n == 0 || m == 0 {
		return 0, 0
	}
	below, u, ties := 0.0, 0.0, 0.0 // below counts the old ones in lower buckets
	for _, k := range slices.Sorted(maps.Keys(all)) {
		u += new[k] * (below + float64(old[k])/2)
		below += float64(old[k])
		t := all[k]
		ties += t*t*t - t
	}
	total := n + m
	return u - n*m/2, n * m / 12 * (total + 1 - ties/(total*(total-1)))
}

// slowTail returns the probability of as many slow invocations of the new revision, or more, if in each minute the new
// ones' durations were a ratio times the old ones': those over the old revision's p95 in milliseconds are compared like
// errors. It detects a slow part of the invocations, which ranks hardly show.
func slowTail(minutes []Minute, ratio, p95 float64) float64 {
	var strata []Errors
	limit := metrics.Bucket(p95)
	for _, m := range minutes {
		over := 0.0
		for k, c := range m.New.Divided(ratio) {
			if k > limit {
				over += c
			}
		}
		e := Errors{NewCalls: m.New.Count(), NewErrors: int(math.Round(over)), OldCalls: m.Old.Count()}
		for k, c := range m.Old {
			if k > limit {
				e.OldErrors += c
			}
		}
		strata = append(strata, e)
	}
	return chanceOf(strata)
}

// quantiles returns the durations that a share of the invocations of each revision did not exceed, in
// milliseconds, over the minutes with invocations of both: the old revision's are weighted in each minute like
// the new one's. 0 if there is none.
func quantiles(minutes []Minute, share float64) (new, old float64) {
	of, like := map[int]float64{}, map[int]float64{}
	for _, m := range minutes {
		n, o := m.New.Count(), m.Old.Count()
		if n == 0 || o == 0 {
			continue
		}
		for k, c := range m.New {
			of[k] += float64(c)
		}
		for k, c := range m.Old {
			like[k] += float64(c) * float64(n) / float64(o)
		}
	}
	return weighted(of, share), weighted(like, share)
}

func weighted(of map[int]float64, share float64) float64 {
	total := 0.0
	for _, c := range of {
		total += c
	}
	left := share * total
	for _, k := range slices.Sorted(maps.Keys(of)) {
		if left -= of[k]; left <= 1e-9*total {
			return metrics.UpTo(k)
		}
	}
	return 0
}

// timed counts the invocations of each that are compared.
func timed(minutes []Minute) (new, old int) {
	for _, m := range minutes {
		if n, o := m.New.Count(), m.Old.Count(); n > 0 && o > 0 {
			new, old = new+n, old+o
		}
	}
	return new, old
}
