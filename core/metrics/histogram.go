// Package metrics sums measurements of invocations: per minute, over revisions, and over time.
package metrics

import (
	"maps"
	"math"
	"slices"
)

// Histogram counts invocations by duration: Histogram[k] are those of more than 1.1^(k-1) and up to 1.1^k
// milliseconds, so a quantile is right to a tenth. Two histograms are merged by adding.
type Histogram map[int]int

const growth = 1.1

// Bucket returns the bucket of a duration in milliseconds. Nothing is counted as
// less than a hundredth of a millisecond.
func Bucket(ms float64) int { return int(math.Ceil(math.Log(max(ms, 0.01)) / math.Log(growth))) }

// UpTo returns the longest duration of a bucket, in milliseconds.
func UpTo(bucket int) float64 { return math.Pow(growth, float64(bucket)) }

// Add merges another histogram into this one.
func (h Histogram) Add(other Histogram) {
	for k, n := range other {
		h[k] += n
	}
}

// Count returns how many invocations were counted.
func (h Histogram) Count() int {
	n := 0
	for _, c := range h {
		n += c
	}
	return n
}

// Quantile returns the duration, in milliseconds, that a share of the invocations did not exceed, from 0 to 1;
// 0 if there are no invocations.
func (h Histogram) Quantile(share float64) float64 {
	left := int(math.Ceil(share * float64(h.Count())))
	for _, k := range slices.Sorted(maps.Keys(h)) {
		if left -= h[k]; left <= 0 {
			return UpTo(k)
		}
	}
	return 0
}
