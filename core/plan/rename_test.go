package plan_test

import (
	"fmt"
	"strings"
	"testing"

	"rudmar/core/plan"
	"rudmar/core/resource"
)

// renamedState returns the recorded and actual state after a rename step.
func renamedState(record map[string]plan.Recorded, there map[string]plan.Actual,
	s plan.Step) (map[string]plan.Recorded, map[string]plan.Actual) {
	to := map[string]string{s.RenamedFrom: s.Function}
	after, actual := map[string]plan.Recorded{}, map[string]plan.Actual{}
	for _, r := range record {
		r.Address = plan.Renamed(r.Address, to)
		var needs []string
		for _, n := range r.Needs {
			needs = append(needs, plan.Renamed(n, to))
		}
		r.Needs = needs
		if r.Function == s.RenamedFrom {
			r.Function = s.Function
		}
		after[r.Address] = r
	}
	for _, l := range there {
		if !s.RecordOnly {
			l.Address = plan.Renamed(l.Address, to)
		}
		actual[l.Address] = l
	}
	return after, actual
}

// TestRenamedFunctionKeepsItsResources plans a renamed function: one step, without wider access, deletes or
// cold starts.
func TestRenamedFunctionKeepsItsResources(t *testing.T) {
	plans := func(in plan.Inputs) string {
		p := plan.Compute(in)
		var out []string
		for _, s := range p.Steps {
			text := fmt.Sprintf("%s %s", s.Change, s.Address)
			if s.RenamedFrom != "" {
				text += " was " + s.RenamedFrom
			}
			if s.RecordOnly {
				text += " record-only"
			}
			out = append(out, text)
		}
		return fmt.Sprint(strings.Join(out, ", "), p.Impact.Opened, p.Impact.Gained,
			p.Impact.Removed, p.Impact.Cold)
	}
	other := function("other", "v1", 128, "/other")
	before := state(function("old", "v1", 128, "/frost", "tables/x"), other)
	now := state(function("new", "v1", 128, "/frost", "tables/x"), other)
	base := settled(before)
	base.Wanted, base.Renamed, base.Renames = now, map[string]string{"new": "old"}, true
	if got := plans(base); got != "update identity/new was old[] [] [] []" {
		t.Errorf("renamed: %s", got)
	}
	changed := base
	changed.Wanted = state(function("new", "v1", 256, "/frost", "tables/x"), other)
	p := plan.Compute(changed)
	for _, s := range p.Steps {
		if s.RenamedFrom == "" && s.Function == "new" && len(s.Needs) == 0 {
			t.Errorf("%s does not wait for the new name", s.Address)
		}
		if s.Change == resource.Delete || s.Change == resource.Create {
			t.Errorf("%s %s", s.Change, s.Address)
		}
	}
	cannot := base
	cannot.Renames = false
	if got := plans(cannot); !strings.Contains(got, "delete identity/old") ||
		!strings.Contains(got, "create identity/new") {
		t.Errorf("a platform that cannot: %s", got)
	}
	actual := settled(now)
	half := base
	half.Actual = actual.Actual
	if got := plans(half); got != "update identity/new was old record-only[] [] [] []" {
		t.Errorf("live has the new name already: %s", got)
	}
	after := apply(t, base, plan.Compute(base))
	after.Renamed, after.Renames = base.Renamed, true
	if next := plan.Compute(after); !next.Empty() {
		t.Errorf("afterwards: %+v", next.Steps)
	}
}
