package access

import (
	"fmt"
	"slices"
	"strings"
)

// Gain is newly allowed access: verbs on a pattern, except for the part that was allowed before.
type Gain struct {
	Verbs    []string
	Resource string
	Except   []Statement // sorted; none overlaps another
}

// Allows reports whether the gain is of a verb on a resource.
func (g Gain) Allows(verb, resource string) bool {
	return Allows([]Statement{{Verbs: g.Verbs, Resource: g.Resource}}, verb, resource) &&
		!Allows(g.Except, verb, resource)
}

// Wildcard reports whether the gain is of more than can be counted: every verb, or
// every resource that a pattern names.
func (g Gain) Wildcard() bool {
	return slices.Contains(g.Verbs, "*") || strings.HasSuffix(g.Resource, "*")
}

// one is a statement of one verb.
type one struct{ verb, resource string }

// covers reports whether this statement allows everything that another one allows.
func (o one) covers(other one) bool {
	return (o.verb == "*" || o.verb == other.verb) && Covers(o.resource, other.resource)
}

// both returns the intersection of two statements. One pattern contains the other, or they are disjoint, as a *
// is only at the end.
func (o one) both(other one) (one, bool) {
	switch {
	case o.verb == "*":
		o.verb = other.verb
	case other.verb != "*" && other.verb != o.verb:
		return one{}, false
	}
	switch {
	case Covers(o.resource, other.resource):
		o.resource = other.resource
	case !Covers(other.resource, o.resource):
		return one{}, false
	}
	return o, true
}

// singly splits statements into single verbs, and removes those that another one covers.
func singly(statements []Statement) []one {
	var all []one
	for _, s := range statements {
		for _, verb := range s.Verbs {
			all = append(all, one{verb, s.Resource})
		}
	}
	return widest(all)
}

// widest removes statements that another one covers, and sorts the rest.
func widest(all []one) []one {
	slices.SortFunc(all, func(a, b one) int {
		return strings.Compare(a.resource+"\x00"+a.verb, b.resource+"\x00"+b.verb)
	})
	all = slices.Compact(all)
	var out []one
	for i, o := range all {
		if !slices.ContainsFunc(all, func(w one) bool { return w != all[i] && w.covers(o) }) {
			out = append(out, o)
		}
	}
	return out
}

// Gained lists what after allows and before does not, sorted by pattern. It is exact: the part of a wider
// pattern that was allowed already is excepted, and a different notation of the same access is no gain.
func Gained(before, after []Statement) []Gain {
	had := singly(before)
	var out []Gain
	at := map[string]int{}
	for _, o := range singly(after) {
		if slices.ContainsFunc(had, func(h one) bool { return h.covers(o) }) {
			continue // one pattern must cover it alone: finitely many narrower patterns leave part of it out
		}
		var within []one
		for _, h := range had {
			if both, meet := h.both(o); meet {
				within = append(within, both)
			}
		}
		g := Gain{Verbs: []string{o.verb}, Resource: o.resource}
		for _, w := range widest(within) {
			i := slices.IndexFunc(g.Except, func(s Statement) bool { return s.Resource == w.resource })
			if i < 0 {
				i, g.Except = len(g.Except), append(g.Except, Statement{Resource: w.resource})
			}
			g.Except[i].Verbs = append(g.Except[i].Verbs, w.verb)
		}
		key := o.resource
		if len(g.Except) > 0 {
			key = fmt.Sprint(o) // for one verb
		}
		if i, same := at[key]; same {
			out[i].Verbs = append(out[i].Verbs, o.verb)
			continue
		}
		at[key], out = len(out), append(out, g)
	}
	return out
}
