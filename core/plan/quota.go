package plan

import (
	"fmt"
	"slices"

	"rudmar/core/expand"
	"rudmar/core/language"
)

// Quota is a platform's maximum number of resources of a kind.
type Quota struct {
	Kind        string
	PerFunction bool // otherwise in the whole scope
	Limit       int
}

// beyondQuotas reports which quotas the wanted resources go over, by name.
func beyondQuotas(wanted []expand.Resource, quotas []Quota) []Blocker {
	var out []Blocker
	for _, q := range quotas {
		counts, first := map[string]int{}, map[string]*expand.Resource{}
		for i, w := range wanted {
			if w.Kind != q.Kind {
				continue
			}
			of := ""
			if q.PerFunction {
				of = w.Function
			}
			if counts[of]++; counts[of] == q.Limit+1 {
				first[of] = &wanted[i]
			}
		}
		names := make([]string, 0, len(first))
		for of := range first {
			names = append(names, of)
		}
		slices.Sort(names)
		for _, of := range names {
			owner := of
			if of == "" {
				owner = "the stage"
			}
			problem := Blocker{Address: first[of].Address,
				Message: fmt.Sprintf("%s would have %s of kind %s; the platform allows %d", owner,
					language.FormatCount(counts[of], "resource"), q.Kind, q.Limit)}
			if len(first[of].Attributes) > 0 {
				problem.From = &first[of].Attributes[0].From
			}
			out = append(out, problem)
		}
	}
	return out
}
