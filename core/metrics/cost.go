package metrics

import (
	"fmt"
	"math/big"

	"rudmar/core/language"
)

// Rates are a platform's prices for invocations, as exact decimal numbers.
type Rates struct {
	PerMillionCalls string // "" if invocations are free
	PerGiBSecond    string // of the memory limit, while invocations run
	Currency        string // ISO 4217
}

// Cost returns the cost of invocations at a memory limit in bytes, with four decimals or as "under 0.0001", and
// the arithmetic in words.
func Cost(s Sum, limit int64, r Rates) (amount, how string, err error) {
	read := func(text string) (*big.Rat, error) {
		if text == "" {
			return new(big.Rat), nil
		}
		out, ok := new(big.Rat).SetString(text)
		if !ok {
			return nil, fmt.Errorf("%q is not a price", text)
		}
		return out, nil
	}
	perCalls, err := read(r.PerMillionCalls)
	if err != nil {
		return "", "", err
	}
	perTime, err := read(r.PerGiBSecond)
	if err != nil {
		return "", "", err
	}
	gibSeconds := new(big.Rat).SetFloat64(s.TotalMs)
	if gibSeconds == nil {
		return "", "", fmt.Errorf("cannot calculate with %v ms", s.TotalMs)
	}
	gibSeconds.Mul(gibSeconds, big.NewRat(limit, 1000<<30))
	total := new(big.Rat).Mul(perCalls, big.NewRat(int64(s.Invocations), 1_000_000))
	total.Add(total, new(big.Rat).Mul(perTime, gibSeconds))
	how = fmt.Sprintf("%s at %s per million, and %s GiB-seconds at %s", language.FormatCount(s.Invocations, "invocation"), orNothing(r.PerMillionCalls),
		gibSeconds.FloatString(3), orNothing(r.PerGiBSecond))
	if total.Sign() > 0 && total.Cmp(big.NewRat(1, 20_000)) < 0 {
		return "under 0.0001", how, nil
	}
	return total.FloatString(4), how, nil
}

func orNothing(price string) string {
	if price == "" {
		return "nothing"
	}
	return price
}
