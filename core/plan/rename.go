package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"rudmar/core/resource"
)

// renaming is a function that is called otherwise from now on.
type renaming struct {
	was, now   string
	recordOnly bool // the actual identity has the new name already
}

// rename moves recorded and actual resources of renamed functions to their new names, so the comparison finds
// them unchanged. A function is renamed if its former name is recorded and its new one is not, and the platform
// supports it.
func rename(in Inputs) (Inputs, []renaming) {
	if !in.Renames || len(in.Renamed) == 0 {
		return in, nil
	}
	recorded, actual := map[string]bool{}, map[string]bool{}
	for _, r := range in.Record {
		recorded[r.Address] = true
	}
	for _, r := range in.Actual {
		actual[r.Address] = true
	}
	identity := func(name string) string { return resource.Identity + "/" + name }
	to := map[string]string{}
	var out []renaming
	for _, now := range slices.Sorted(maps.Keys(in.Renamed)) {
		was := in.Renamed[now]
		if !recorded[identity(was)] || recorded[identity(now)] {
			continue
		}
		if first, taken := to[was]; taken {
			in.Blockers = append(slices.Clone(in.Blockers), Blocker{Address: identity(now), Message: fmt.Sprintf(
				"%s and %s are both renamed from %s; remove renamed_from from one of them", first, now, was)})
			continue
		}
		switch {
		case actual[identity(was)] && !actual[identity(now)]:
			out = append(out, renaming{was: was, now: now})
		case !actual[identity(was)] && actual[identity(now)]:
			out = append(out, renaming{was: was, now: now, recordOnly: true})
		default:
			continue // it was deleted, or both exist: they are compared unchanged
		}
		to[was] = now
	}
	if len(out) == 0 {
		return in, nil
	}
	slices.SortFunc(out, func(a, b renaming) int { return strings.Compare(a.now, b.now) })
	in.Record, in.Actual = slices.Clone(in.Record), slices.Clone(in.Actual)
	for i := range in.Record {
		r := &in.Record[i]
		r.Address = Renamed(r.Address, to)
		if now, ok := to[r.Function]; ok {
			r.Function = now
		}
		r.Needs = slices.Clone(r.Needs)
		for j := range r.Needs {
			r.Needs[j] = Renamed(r.Needs[j], to)
		}
	}
	for i := range in.Actual {
		in.Actual[i].Address = Renamed(in.Actual[i].Address, to)
	}
	return in, out
}

// Renamed returns an address of a function under its new name; to maps former
// names to new ones.
func Renamed(address string, to map[string]string) string {
	kind, rest := resource.Split(address)
	function, tail, more := strings.Cut(rest, "/")
	now, ok := to[function]
	if !ok {
		return address
	}
	if more {
		return kind + "/" + now + "/" + tail
	}
	return kind + "/" + now
}

// called adds the step that renames a function; compare finds it done.
func (b *builder) called(r renaming) {
	address := resource.Identity + "/" + r.now
	s := Step{Address: address, Kind: resource.Identity, Function: r.now, Change: resource.Update, RenamedFrom: r.was,
		RecordOnly: r.recordOnly,
		Attributes: []AttributeChange{{Name: "name", Before: r.was, After: r.now}},
		Because:    []Cause{{Kind: ByManifest, Text: fmt.Sprintf("function %s is now called %s (renamed_from)", r.was, r.now)}}}
	if w := b.wantedAt(address); w != nil {
		from := firstOrigin(w)
		s.Want, s.WantNeeds, s.Because[0].From = w.Values(), w.Needs, &from
	}
	if actual := b.liveAt(address); actual != nil {
		s.Tag = actual.Tag
	}
	b.renamed[address] = true
	b.add(s)
}
