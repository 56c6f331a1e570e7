package metrics

import (
	"cmp"
	"slices"
)

// Sum is a sum over invocations.
type Sum struct {
	Invocations int            `json:"invocations"`
	Errors      int            `json:"errors"`
	Throttled   int            `json:"throttled"`
	Cold        int            `json:"cold"`
	TotalMs     float64        `json:"totalMs"`
	MaxMs       float64        `json:"maxMs"`
	MemoryPeak  int64          `json:"memoryPeak"` // bytes
	ErrorKinds  map[string]int `json:"errorKinds"`
	Durations   Histogram      `json:"-"` // of warm invocations
}

// Add adds another sum to this one.
func (s *Sum) Add(o Sum) {
	s.Invocations, s.Errors, s.Throttled, s.Cold = s.Invocations+o.Invocations, s.Errors+o.Errors,
		s.Throttled+o.Throttled, s.Cold+o.Cold
	s.TotalMs, s.MaxMs, s.MemoryPeak = s.TotalMs+o.TotalMs, max(s.MaxMs, o.MaxMs), max(s.MemoryPeak, o.MemoryPeak)
	if s.Durations == nil {
		s.Durations = Histogram{}
	}
	s.Durations.Add(o.Durations)
	if s.ErrorKinds == nil {
		s.ErrorKinds = map[string]int{}
	}
	for kind, n := range o.ErrorKinds {
		s.ErrorKinds[kind] += n
	}
}

// Quantile returns the duration, in milliseconds, that a share of the warm invocations did not exceed: accurate
// to 2%, and never more than the longest invocation.
func (s *Sum) Quantile(share float64) float64 { return min(s.Durations.Quantile(share), s.MaxMs) }

// Measured is the sum of one revision over a period such as a minute.
type Measured struct {
	At       int64 // Unix milliseconds of its start
	Revision string
	Version  int // the version that first created the revision; 0 if unknown
	Sum
}

// Point is the sum of all revisions over one step of a series.
type Point struct {
	At int64 // Unix milliseconds of its start
	Sum
}

// Series sums measurements from one time and before another, in Unix milliseconds, in steps of equal width,
// including steps without invocations. A width of 0 or less returns none.
func Series(measured []Measured, from, to, width int64) []Point {
	if width <= 0 || to <= from {
		return nil
	}
	out := make([]Point, (to-from+width-1)/width)
	for i := range out {
		out[i].At = from + int64(i)*width
	}
	for _, m := range measured {
		if m.At >= from && m.At < to {
			out[(m.At-from)/width].Add(m.Sum)
		}
	}
	return out
}

// ByRevision sums by revision, most recently measured first, then by newest version.
func ByRevision(measured []Measured) []Measured {
	var out []Measured
	for _, m := range measured {
		i := slices.IndexFunc(out, func(o Measured) bool { return o.Revision == m.Revision })
		if i < 0 {
			i, out = len(out), append(out, Measured{Revision: m.Revision, Version: m.Version})
		}
		out[i].At = max(out[i].At, m.At)
		out[i].Add(m.Sum)
	}
	slices.SortStableFunc(out,
		func(a, b Measured) int { return cmp.Or(cmp.Compare(b.At, a.At), cmp.Compare(b.Version, a.Version)) })
	return out
}
