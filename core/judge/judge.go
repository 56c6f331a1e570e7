// Package judge decides from observed invocations whether a traffic shift advances, waits or rolls
// back. docs/judge.md explains the calculation.
//
// All its functions can be called concurrently.
package judge

import (
	"fmt"
	"strconv"
	"time"

	"rudmar/core/metrics"
)

// Outcome is the judge's decision.
type Outcome string

// The outcomes.
const (
	On   Outcome = "advance"   // no regression was detected
	Wait Outcome = "wait"      // too few invocations
	Back Outcome = "roll-back" // a regression was detected
)

// Limits of a judgment. With them, two equal revisions are told apart wrongly in less than 1 of 100 shifts,
// over all looks; see docs/judge.md.
const (
	// hardlyEqual is the probability of such errors under equality below which a revision is rolled back, at each look.
	hardlyEqual = 0.0008
	// margin is by how much an error rate can be higher without being a regression.
	margin = 0.002
	// muchSlower is the allowed ratio of durations. A revision is rolled back if, at this ratio, the probability of such
	// durations is below hardlyAllowed. For all invocations this limit grows to oftenAllowed between fewTimed and
	// manyTimed invocations: so many tell ratios on both sides of the allowed one apart.
	muchSlower                  = 1.25
	hardlyAllowed, oftenAllowed = 0.0003, 0.3
	fewTimed, manyTimed         = 200, 3200
	// leastSlower is the smallest difference in milliseconds: less is noise.
	leastSlower = 5
	// leastTimed is the number of warm invocations of each revision needed to compare durations.
	leastTimed = 30
	// firstLook is the number of invocations before the first look; it grows by nextLook between looks.
	firstLook = 20
	nextLook  = 1.25
	// enough is the number of invocations of the new revision that lets a step end before its time.
	enough = 400
	// A step ends early if the error rate is higher by less than much, with a probability of 0.95 (clearly standard
	// errors), and durations are shorter than allowed with the same probability.
	much, clearly, surely = 0.01, 1.645, 0.95
	// doubtful is the probability of such errors or durations below which a step does not end yet.
	doubtful = 0.1
)

// Objective has a function's objectives; zero values are none.
type Objective struct {
	ErrorsUnder float64       // share of invocations that can fail
	P95Under    time.Duration // of warm invocations
}

// Function has the counts of one function since the start of the shift, of both revisions over the same time.
type Function struct {
	Name      string
	New, Old  metrics.Sum
	Minutes   []Minute // of both, in the order of time
	Objective Objective
}

// Finding is the result for one function.
type Finding struct {
	Function string  `json:"function"`
	Outcome  Outcome `json:"outcome"`
	Words    string  `json:"explanation"`
	New      Counts  `json:"new"`
	Old      Counts  `json:"old"`
	Chance   float64 `json:"chance"` // probability of such errors if both were equal
	Limit    float64 `json:"limit"`  // probability below which it is rolled back
	// Disturbed is the last minute in which both revisions got worse, in Unix milliseconds; 0 for none.
	Disturbed int64 `json:"disturbedAt"`
	// Slower is the probability of such durations at the allowed ratio, and SlowTail that of as many slow invocations.
	Slower   float64 `json:"slower"`
	SlowTail float64 `json:"slowTail"`
	Ratio    float64 `json:"ratio"`  // of the 95th percentiles; 0 if one is unknown
	Looked   bool    `json:"looked"` // there were enough invocations since the last look
	Clear    bool    `json:"clear"`  // it has enough invocations, and a regression is unlikely
	// Doubtful means that a regression is likely enough to wait for more invocations before the step ends.
	Doubtful bool `json:"doubtful"`
}

// Counts are one revision's figures.
type Counts struct {
	Invocations int     `json:"invocations"`
	Errors      int     `json:"errors"`
	Low         float64 `json:"low"`  // bounds of its error rate, with a probability
	High        float64 `json:"high"` // of 0.95
	P95         float64 `json:"p95"`  // milliseconds, of warm invocations
}

func sideOf(s metrics.Sum) Counts {
	out := Counts{Invocations: s.Invocations, Errors: s.Errors, P95: s.Quantile(0.95)}
	out.Low, out.High = interval(s.Invocations, s.Errors)
	return out
}

// Verdict is the judge's result for a shift at one look.
type Verdict struct {
	Outcome  Outcome   `json:"outcome"`
	Reason   string    `json:"reason"`
	Early    bool      `json:"early"` // the step can end before its time
	Findings []Finding `json:"findings"`
}

// Due reports whether a function has enough invocations for another look; last is their number at the last
// look, 0 for none yet.
func Due(calls, last int) bool {
	if last < firstLook {
		return calls >= firstLook
	}
	return float64(calls) >= nextLook*float64(last)
}

// Judge judges a shift. last has, by function, the number of invocations of the new revision at the last look:
// with hardly more invocations it is not tested again, so frequent looks do no harm. Judge does not change
// last.
func Judge(functions []Function, last map[string]int) Verdict {
	called := 0
	for _, f := range functions {
		if f.New.Invocations > 0 {
			called++
		}
	}
	v := Verdict{Outcome: On, Early: called > 0, Findings: []Finding{}}
	for _, f := range functions {
		found := evaluate(f, called, Due(f.New.Invocations, last[f.Name]))
		v.Findings = append(v.Findings, found)
		switch {
		case found.Outcome == Back && v.Outcome != Back:
			v.Outcome, v.Reason = Back, f.Name+": "+found.Words
		case found.Outcome == Wait && v.Outcome == On:
			v.Outcome, v.Reason = Wait, f.Name+": "+found.Words
		}
		v.Early = v.Early && (found.Clear || f.Old.Invocations+f.New.Invocations == 0)
	}
	switch {
	case v.Outcome == On && called == 0:
		v.Reason = "no changed function was invoked"
	case v.Outcome == On:
		v.Reason = "no regression detected"
	}
	v.Early = v.Early && v.Outcome == On
	return v
}

// evaluate judges one function; called is the number of functions with invocations: the more are tested, the
// stricter the limit for each.
func evaluate(f Function, called int, due bool) Finding {
	found := Finding{Function: f.Name, Outcome: On, New: sideOf(f.New), Old: sideOf(f.Old), Slower: 1, SlowTail: 1,
		Looked: due}
	if f.New.Invocations == 0 {
		found.Words = "not invoked"
		if f.Old.Invocations > 0 {
			found.Outcome, found.Words = Wait, fmt.Sprintf("not invoked yet; the version before was invoked %d times", f.Old.Invocations)
		}
		return found
	}
	var strata []Errors
	for _, m := range f.Minutes {
		strata = append(strata, m.Strata...)
	}
	found.Chance, found.Disturbed = chanceOf(strata), disturbance(f.Minutes)
	higher, deviation := difference(strata)
	failed := float64(f.New.Errors) / float64(f.New.Invocations)
	fewEnough := failed <= f.Objective.ErrorsUnder
	share := float64(max(called, 1))
	found.Limit = hardlyEqual / share
	var p95, before float64
	if n, o := timed(f.Minutes); n >= leastTimed && o >= leastTimed {
		if p95, before = quantiles(f.Minutes, 0.95); before > 0 {
			found.Ratio = p95 / before
		}
		found.Slower = slower(f.Minutes, muchSlower)
		found.SlowTail = slowTail(f.Minutes, muchSlower, before)
	}
	fastEnough := p95-before <= leastSlower || p95 <= float64(f.Objective.P95Under.Milliseconds())
	found.Clear = f.New.Invocations >= enough && (fewEnough || higher+clearly*deviation < much) &&
		(fastEnough || found.Slower > surely && found.SlowTail > doubtful)
	found.Doubtful = found.Chance < doubtful && higher > margin && !fewEnough ||
		!fastEnough && (found.Slower < doubtful && found.Ratio > muchSlower || found.SlowTail < doubtful)
	allSlow := found.Slower < slowerLimit(f.New.Invocations)/share && found.Ratio > muchSlower
	tooSlow := (allSlow || found.SlowTail < hardlyAllowed/share) && !fastEnough
	switch {
	case due && found.Chance < found.Limit && higher > margin && !fewEnough:
		found.Outcome = Back
		found.Words = fmt.Sprintf("%s; if both were equal, the probability of this in the same minutes would be %s, rolls back below %s",
			found.errors(), hardly(found.Chance), hardly(found.Limit))
	case due && tooSlow:
		found.Outcome = Back
		found.Words = fmt.Sprintf(
			"p95 is %.0f ms, and %.0f ms for the version before in the same minutes; if invocations took %.4g times as long, the probability of such durations would be %s",
			p95, before, muchSlower, hardly(min(found.Slower, found.SlowTail)))
	case f.New.Invocations < firstLook && f.Old.Invocations > 0:
		found.Outcome = Wait
		found.Words = fmt.Sprintf("%s; judged from %d invocations", found.errors(), firstLook)
	case found.Doubtful:
		found.Words = fmt.Sprintf("%s; if there was no regression, the probability of this would be %s, so the step waits for more invocations",
			found.errors(), hardly(min(found.Chance, found.Slower, found.SlowTail)))
	case found.Disturbed != 0:
		found.Words = found.errors() + "; both got worse in the same minutes, so not because of this version"
	default:
		found.Words = fmt.Sprintf("%s; if both were equal, the probability of this would be %.2g", found.errors(), found.Chance)
	}
	return found
}

// errors returns the counted errors.
func (f Finding) errors() string {
	return fmt.Sprintf("%d of %d invocations failed, and %d of %d of the version before", f.New.Errors, f.New.Invocations, f.Old.Errors,
		f.Old.Invocations)
}

// hardly reports a probability near 0.
func hardly(p float64) string {
	if p < 1e-9 {
		return "under 0.000000001"
	}
	return strconv.FormatFloat(p, 'g', 2, 64)
}
