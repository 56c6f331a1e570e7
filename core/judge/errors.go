package judge

import (
	"math"

	"gonum.org/v1/gonum/mathext"
	"gonum.org/v1/gonum/stat/distuv"
)

// Errors are the invocations and errors of both revisions in one stratum: in one minute, and by one trigger.
type Errors struct {
	NewCalls, NewErrors int
	OldCalls, OldErrors int
}

// compared reports whether a stratum says anything about a difference: both were invoked.
func (e Errors) compared() bool { return e.NewCalls > 0 && e.OldCalls > 0 }

// exactErrors is the largest number of errors for which the distribution is computed exactly; above it the normal
// approximation is good.
const exactErrors = 300

// chanceOf returns the probability that the new revision has as many errors as it has, or more, if in each stratum each
// error was equally likely to hit any invocation: the one-sided stratified test of Mantel and Haenszel (1959),
// conditional on each stratum's totals, exact for few errors. A cause that hits both revisions of a stratum, or a
// change of their shares between strata, counts against neither. 1 without a stratum with invocations of both.
func chanceOf(strata []Errors) float64 {
	observed, total := 0, 0
	for _, e := range strata {
		if e.compared() {
			observed += e.NewErrors
			total += e.NewErrors + e.OldErrors
		}
	}
	if observed == 0 {
		return 1
	}
	if total <= exactErrors {
		return exactChance(strata, observed)
	}
	expected, variance := 0.0, 0.0
	for _, e := range strata {
		if !e.compared() {
			continue
		}
		n, m, t := float64(e.NewCalls), float64(e.OldCalls), float64(e.NewErrors+e.OldErrors)
		all := n + m
		expected += t * n / all
		if all > 1 {
			variance += n * m * t * (all - t) / (all * all * (all - 1))
		}
	}
	if variance <= 0 {
		return 1 // all or none failed
	}
	return distuv.UnitNormal.Survival((float64(observed) - 0.5 - expected) / math.Sqrt(variance))
}

// exactChance convolves the hypergeometric distributions of the strata, and returns the probability of at least a
// number of errors.
func exactChance(strata []Errors, observed int) float64 {
	sum := []float64{1} // by the number of errors of the new revision
	for _, e := range strata {
		t := e.NewErrors + e.OldErrors
		if !e.compared() || t == 0 {
			continue
		}
		least, most := max(0, t-e.OldCalls), min(t, e.NewCalls)
		next := make([]float64, len(sum)+most)
		for a := least; a <= most; a++ {
			p := math.Exp(choose(e.NewCalls, a) + choose(e.OldCalls, t-a) - choose(e.NewCalls+e.OldCalls, t))
			for k, q := range sum {
				next[k+a] += p * q
			}
		}
		sum = next
	}
	tail := 0.0
	for k := len(sum) - 1; k >= observed; k-- {
		tail += sum[k]
	}
	return min(1, tail)
}

// choose returns the logarithm of a binomial coefficient.
func choose(n, k int) float64 {
	a, _ := math.Lgamma(float64(n) + 1)
	b, _ := math.Lgamma(float64(k) + 1)
	c, _ := math.Lgamma(float64(n-k) + 1)
	return a - b - c
}

// difference returns the stratified difference of the error rates (Mantel and Haenszel's weights), and its standard
// error (Sato 1989, simplified to the variances of the strata).
func difference(strata []Errors) (rate, deviation float64) {
	weights, sum, variance := 0.0, 0.0, 0.0
	for _, e := range strata {
		if !e.compared() {
			continue
		}
		n, m := float64(e.NewCalls), float64(e.OldCalls)
		w := n * m / (n + m)
		p, q := float64(e.NewErrors)/n, float64(e.OldErrors)/m
		weights += w
		sum += w * (p - q)
		// half an error more on each side, so that no error is no certainty
		ps, qs := (float64(e.NewErrors)+0.5)/(n+1), (float64(e.OldErrors)+0.5)/(m+1)
		variance += w * w * (ps*(1-ps)/n + qs*(1-qs)/m)
	}
	if weights == 0 {
		return 0, math.Inf(1)
	}
	return sum / weights, math.Sqrt(variance) / weights
}

// prior is the prior of a rate: Jeffreys' prior of a proportion (Jeffreys, Theory of Probability, 1961).
const prior = 0.5

// interval returns the bounds that contain an error rate with a probability of 0.95.
func interval(calls, errors int) (low, high float64) {
	e := float64(min(max(errors, 0), calls))
	a, b := prior+e, prior+float64(calls)-e
	return mathext.InvRegIncBeta(a, b, 0.025), mathext.InvRegIncBeta(a, b, 0.975)
}

// Limits of a disturbance: in one minute both revisions have errors that are unlikely at their rate before, at least
// leastHit each.
const (
	disturbed = 0.001
	leastHit  = 3
	// usualRate is the least error rate that is assumed before.
	usualRate = 0.005
)

// disturbance returns the last minute in which both revisions got worse, so not because of the new one; 0 for none.
func disturbance(minutes []Minute) (at int64) {
	var calls, errors [2]int
	for _, m := range minutes {
		sum := m.sum()
		sides := [2][2]int{{sum.NewCalls, sum.NewErrors}, {sum.OldCalls, sum.OldErrors}}
		hit := calls[0]+calls[1] > 0
		// both together are usual before: the new one has few invocations at first
		rate := max(usualRate, float64(errors[0]+errors[1])/float64(max(1, calls[0]+calls[1])))
		for _, side := range sides {
			hit = hit && side[1] >= leastHit && tail(side[0], side[1], rate) < disturbed
		}
		if hit {
			at = m.At
			continue // it does not count as usual
		}
		for i, side := range sides {
			calls[i], errors[i] = calls[i]+side[0], errors[i]+side[1]
		}
	}
	return at
}

// tail returns the probability of at least a number of errors among invocations that fail at a rate.
func tail(calls, errors int, rate float64) float64 {
	if errors == 0 {
		return 1
	}
	if errors > calls {
		return 0
	}
	return mathext.RegIncBeta(float64(errors), float64(calls-errors+1), rate)
}
