package judge

import "gonum.org/v1/gonum/mathext"

// rate is what is believed of an error rate: a beta distribution of these parameters,
// from a prior and from what was counted.
type rate struct{ errors, rest float64 }

// prior is what a rate is believed to be before anything is counted: Jeffreys' prior
// of a proportion (Jeffreys, Theory of Probability, 1961).
const prior = 0.5

// rateOf returns what is believed of a rate after so many errors in so many invocations.
func rateOf(calls, errors float64) rate {
	errors = min(max(errors, 0), calls)
	return rate{prior + errors, prior + calls - errors}
}

// like returns what is believed of a rate of which nothing was counted yet but that it is probably like another
// one: worth so many invocations.
func (r rate) like(calls float64) rate {
	mean := r.errors / (r.errors + r.rest)
	return rate{calls * mean, calls * (1 - mean)}
}

// and adds what was counted.
func (r rate) and(calls, errors float64) rate {
	errors = min(max(errors, 0), calls)
	return rate{r.errors + errors, r.rest + calls - errors}
}

// over returns the probability that the rate lies over x.
func (r rate) over(x float64) float64 {
	switch {
	case x <= 0:
		return 1
	case x >= 1:
		return 0
	}
	return 1 - mathext.RegIncBeta(r.errors, r.rest, x)
}

// pieces is how many pieces worse divides what is believed of the old rate into.
const pieces = 200

// worse returns the probability that the new rate is greater than the old one by more
// than the margin, and greater than the allowance: P(new > max(old + margin, allowed)).
// It integrates over what is believed of the old rate, in slices of equal probability.
func worse(new, old rate, margin, allowed float64) float64 {
	sum := 0.0
	for i := range pieces {
		q := (float64(i) + 0.5) / pieces
		sum += new.over(max(mathext.InvRegIncBeta(old.errors, old.rest, q)+margin, allowed))
	}
	return sum / pieces
}

// interval returns the bounds between which a rate lies with a probability of 0.95.
func (r rate) interval() (low, high float64) {
	return mathext.InvRegIncBeta(r.errors, r.rest, 0.025), mathext.InvRegIncBeta(r.errors, r.rest, 0.975)
}
