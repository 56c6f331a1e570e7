package plan

import (
	"sort"

	"rudmar/core/canon"
	"rudmar/core/resource"
)

// states are the recorded, actual and desired attributes of a resource; nil if absent.
type states struct{ record, actual, wanted map[string]any }

// outcome is the result for the three states of a resource.
type outcome struct {
	Change       resource.Change // "" for nothing
	RecordOnly   bool            // the actual state is correct already, only the record changes
	RevertsDrift bool            // the change also overwrites a change made outside Rudmar
	Conflict     bool            // it is not possible; the plan has a blocker
}

// outcome decides by the table of docs/architecture.md, row by row. inPlace reports whether the platform can
// change these attributes of a live resource.
func (s states) outcome(inPlace func(names []string) bool) outcome {
	if s.wanted == nil {
		switch {
		case s.record == nil:
			return outcome{} // not recorded, not desired: any actual resource is unmanaged
		case s.actual == nil:
			return outcome{Change: resource.Delete, RecordOnly: true} // recorded, not desired | absent
		}
		return outcome{Change: resource.Delete} // recorded, not desired | present
	}
	left := differences(s.actual, s.wanted)
	if s.record == nil {
		switch {
		case s.actual == nil:
			return outcome{Change: resource.Create} // not recorded, desired | absent
		case !inPlace(left):
			return outcome{Conflict: true} // not recorded, desired | present
		}
		return outcome{Change: resource.Adopt, RecordOnly: len(left) == 0} // not recorded, desired | present
	}
	if s.actual == nil {
		return outcome{Change: resource.Create} // recorded, desired | absent
	}
	toWanted, drift := differences(s.record, s.wanted), differences(s.record, s.actual)
	switch {
	case len(toWanted) == 0 && len(drift) == 0:
		return outcome{} // same | same
	case len(toWanted) == 0 && inPlace(left):
		return outcome{Change: resource.Restore} // same | differs
	case len(toWanted) == 0: // same | differs, in what cannot change in place
		return outcome{Change: resource.Replace, RevertsDrift: true}
	}
	change := resource.Update
	if !inPlace(left) || len(left) == 0 && !inPlace(toWanted) {
		change = resource.Replace
	}
	switch {
	case len(left) == 0:
		return outcome{Change: change, RecordOnly: true} // differs | already as desired
	case len(drift) == 0:
		return outcome{Change: change} // differs | as recorded
	}
	return outcome{Change: change, RevertsDrift: true} // differs | differs from both
}

// present returns attributes that are there, be they none.
func present(attributes map[string]any) map[string]any {
	if attributes == nil {
		return map[string]any{}
	}
	return attributes
}

// differences names the attributes in which two states differ, sorted.
func differences(before, after map[string]any) []string {
	var out []string
	for name, v := range before {
		if w, ok := after[name]; !ok || !canon.Equal(v, w) {
			out = append(out, name)
		}
	}
	for name := range after {
		if _, ok := before[name]; !ok {
			out = append(out, name)
		}
	}
	sort.Strings(out)
	return out
}
