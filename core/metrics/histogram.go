// Package metrics sums measurements of invocations: per minute, over revisions, and over time.
//
// Histograms and sums cannot be written concurrently; everything else can be called concurrently.
package metrics

import (
	"maps"
	"math"
	"slices"
)

// Histogram counts invocations by duration: Histogram[k] are those of more than 1.02^(k-1) and up to 1.02^k
// milliseconds, so a quantile is right to 2%. Two histograms are merged by adding.
type Histogram map[int]int

// growth is the ratio of a bucket's longest duration to that of the bucket before it. Platforms can also count by
// coarse buckets, which grow by a tenth.
const (
	growth = 1.02
	coarse = 1.1
)

// Bucket returns the bucket of a duration in milliseconds. Nothing is counted as
// less than a hundredth of a millisecond.
func Bucket(ms float64) int { return int(math.Ceil(math.Log(max(ms, 0.01)) / math.Log(growth))) }

// UpTo returns the longest duration of a bucket, in milliseconds.
func UpTo(bucket int) float64 { return math.Pow(growth, float64(bucket)) }

// AddCoarse counts invocations of more than 1.1^(k-1) and up to 1.1^k milliseconds, spread evenly over the buckets
// within.
func (h Histogram) AddCoarse(k, n int) {
	cells := math.Log(coarse) / math.Log(growth)
	low, high := float64(k-1)*cells, float64(k)*cells
	placed, first := 0, int(math.Floor(low))+1
	for b := first; placed < n; b++ {
		up := n // the last bucket takes what is left
		if float64(b) < high {
			up = int(math.Round(float64(n) * (float64(b) - low) / cells))
		}
		if up > placed {
			h[b] += up - placed
			placed = up
		}
	}
}

// Divided returns the invocations by bucket as if each had taken a ratio less time; a bucket's invocations are spread
// over the two buckets that they fall into.
func (h Histogram) Divided(ratio float64) map[int]float64 {
	whole, part := math.Modf(math.Log(ratio) / math.Log(growth))
	out := make(map[int]float64, 2*len(h))
	for k, n := range h {
		out[k-int(whole)] += float64(n) * (1 - part)
		if part > 0 {
			out[k-int(whole)-1] += float64(n) * part
		}
	}
	return out
}

// Bucketed are invocations of more than the limit before and up to this one, in milliseconds.
type Bucketed struct {
	UpTo        float64
	Invocations int
}

// Steps returns a histogram as buckets that grow by about a tenth, from its first to its last, including empty ones.
func (h Histogram) Steps() []Bucketed {
	const merged = 5
	keys := slices.Sorted(maps.Keys(h))
	if len(keys) == 0 {
		return nil
	}
	step := func(k int) int { return int(math.Ceil(float64(k) / merged)) }
	first := step(keys[0])
	out := make([]Bucketed, step(keys[len(keys)-1])-first+1)
	for i := range out {
		out[i].UpTo = UpTo((first + i) * merged)
	}
	for _, k := range keys {
		out[step(k)-first].Invocations += h[k]
	}
	return out
}

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
