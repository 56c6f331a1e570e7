package plan_test

import (
	"strings"
	"testing"

	"rudmar/core/impact"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/resource"
)

// What people agree to names every change and all that follows from it, and
// nothing that says nothing of what happens.
func TestMeaning(t *testing.T) {
	p := &plan.Plan{
		Steps: []plan.Step{
			{Address: "function/warn", Change: resource.Update, Phase: 3, Index: 9, Expected: 40, Attributes: []plan.AttributeChange{
				{Name: "memory", Before: 128.0, After: 256.0}, {Name: "timeout", Before: nil, After: 5.0}}},
			{Address: "route/warn/ask", Change: resource.Delete},
			{Address: "grant/warn/tables", Change: resource.Create, RecordOnly: true},
		},
		Impact: impact.Impact{
			Rules:   []impact.RuleChange{{Rule: "approvals", Before: "2", After: "1", Loosens: true}},
			Opened:  []impact.Opened{{Route: "GET /frost", After: "anyone", Public: true}},
			Gained:  []impact.Reach{{Function: "warn", Verbs: []string{"read", "write"}, Resource: "tables/a"}},
			Lost:    []impact.Reach{{Function: "warn", Verbs: []string{"send"}, Resource: "queues/b"}},
			Cold:    []string{"warn"},
			Removed: []string{"log lines of warn"},
		},
	}
	want := []string{
		"GET /frost opens to anyone", "delete route/warn/ask", "log lines of warn are lost",
		"the rule approvals: 2 → 1", "update function/warn: memory 128 → 256, timeout null → 5",
		"warn may newly read, write tables/a", "warn may no longer send queues/b",
	}
	if got := p.Impact(); strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("it means\n%s", strings.Join(got, "\n"))
	}
	p.Base.Target = manifest.ParseTarget("local/north")
	for i, line := range p.Impact() {
		if line != want[i]+" on local/north" {
			t.Errorf("with its target: %s", line)
		}
	}
}

// Whoever deletes, or opens something to everybody, types the stage's name.
func TestConfirmation(t *testing.T) {
	gone := plan.Step{Address: "route/warn/ask", Change: resource.Delete}
	recorded := gone
	recorded.RecordOnly = true
	open := func(public bool) impact.Impact {
		return impact.Impact{Opened: []impact.Opened{{Route: "GET /frost", Public: public}}}
	}
	for want, p := range map[string]plan.Plan{
		"":                      {Steps: []plan.Step{recorded, {Change: resource.Update}}, Impact: open(false)},
		"1 resource is deleted": {Steps: []plan.Step{gone, recorded}},
		"2 resources are deleted; GET /frost becomes public": {Steps: []plan.Step{gone, gone}, Impact: open(true)},
	} {
		if got := p.Confirmation(); got != want {
			t.Errorf("%q, not %q", got, want)
		}
	}
}
