package deploy

import (
	"strconv"

	"rudmar/core/metrics"
	"rudmar/core/plan"
	"rudmar/platform/api"
)

// Actual converts a snapshot for plans.
func Actual(s api.Snapshot) []plan.Actual {
	out := make([]plan.Actual, 0, len(s.Resources))
	for _, r := range s.Resources {
		l := plan.Actual{Address: r.Address, Kind: r.Kind, Attributes: r.Attributes, Tag: r.Tag}
		if r.ChangedAt != nil {
			l.Changed = *r.ChangedAt
		}
		if r.ChangedBy != nil {
			l.By = *r.ChangedBy
		}
		out = append(out, l)
	}
	return out
}

// Specs converts a platform's description of its kinds for plans.
func Specs(k api.Kinds) []plan.KindSpec {
	out := make([]plan.KindSpec, 0, len(k.Kinds))
	for _, kind := range k.Kinds {
		spec := plan.KindSpec{Kind: kind.Kind}
		for _, a := range kind.Attributes {
			s := plan.AttributeSpec{Name: a.Name, InPlace: a.InPlace, Computed: a.Computed != nil && *a.Computed}
			if a.Unit != nil {
				s.Unit = string(*a.Unit)
			}
			spec.Attributes = append(spec.Attributes, s)
		}
		out = append(out, spec)
	}
	return out
}

func quotas(k api.Kinds) []plan.Quota {
	out := make([]plan.Quota, len(k.Quotas))
	for i, q := range k.Quotas {
		out[i] = plan.Quota{Kind: q.Kind, PerFunction: q.Per == api.QuotaPerFunction, Limit: q.Limit}
	}
	return out
}

// Rates converts a platform's price list for costs.
func Rates(prices []api.Price) metrics.Rates {
	var rates metrics.Rates
	for _, p := range prices {
		switch p.Of {
		case api.Invocations:
			rates.PerMillionCalls, rates.Currency = p.Amount, p.Currency
		case api.MemoryTime:
			rates.PerGiBSecond, rates.Currency = p.Amount, p.Currency
		}
	}
	return rates
}

// Sum converts a platform's measurements.
func Sum(m api.MinuteSum) metrics.Sum {
	durations := metrics.Histogram{}
	for key, n := range m.FineDurations {
		if bucket, err := strconv.Atoi(key); err == nil { // no other key belongs to the protocol
			durations[bucket] += n
		}
	}
	for key, n := range m.Durations {
		if bucket, err := strconv.Atoi(key); err == nil {
			durations.AddCoarse(bucket, n)
		}
	}
	return metrics.Sum{Invocations: m.Invocations, Errors: m.Errors, Throttled: m.Throttled, Cold: m.Cold,
		TotalMs: m.TotalMs,
		MaxMs:   m.MaxMs, MemoryPeak: m.MemoryPeak, ErrorKinds: m.ErrorKinds, Durations: durations}
}
