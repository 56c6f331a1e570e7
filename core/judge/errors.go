package judge

import "gonum.org/v1/gonum/mathext"

// rate is the posterior of an error rate: a beta distribution with these parameters.
type rate struct{ errors, rest float64 }

// prior is the prior of a rate: Jeffreys' prior of a proportion (Jeffreys, Theory of Probability, 1961).
const prior = 0.5

// rateOf returns the posterior of a rate after a number of errors in a number of invocations.
func rateOf(calls, errors float64) rate {
	errors = min(max(errors, 0), calls)
	return rate{prior + errors, prior + calls - errors}
}

// like returns the prior of a rate that is probably like another one, with the weight of a number of
// invocations.
func (r rate) like(calls float64) rate {
	mean := r.errors / (r.errors + r.rest)
	return rate{calls * mean, calls * (1 - mean)}
}

// and adds observed counts.
func (r rate) and(calls, errors float64) rate {
	errors = min(max(errors, 0), calls)
	return rate{r.errors + errors, r.rest + calls - errors}
}

// over returns the probability that the rate exceeds x.
func (r rate) over(x float64) float64 {
	switch {
	case x <= 0:
		return 1
	case x >= 1:
		return 0
	}
	return 1 - mathext.RegIncBeta(r.errors, r.rest, x)
}

// pieces is the number of slices of the old rate's distribution in worse.
const pieces = 200

// worse returns the probability that the new rate exceeds the old one by more than the margin, and exceeds the
// allowance: P(new > max(old + margin, allowed)). It integrates over the old rate's distribution, in slices of
// equal probability.
func worse(new, old rate, margin, allowed float64) float64 {
	sum := 0.0
	for i := range pieces {
		q := (float64(i) + 0.5) / pieces
		sum += new.over(max(mathext.InvRegIncBeta(old.errors, old.rest, q)+margin, allowed))
	}
	return sum / pieces
}

// interval returns the bounds that contain a rate with a probability of 0.95.
func (r rate) interval() (low, high float64) {
	return mathext.InvRegIncBeta(r.errors, r.rest, 0.025), mathext.InvRegIncBeta(r.errors, r.rest, 0.975)
}
