package plan_test

import (
	"strings"
	"testing"

	"rudmar/core/impact"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/resource"
)

// Facts contain each change with its values and each impact; rewording a sentence does not
// change them.
func TestFacts(t *testing.T) {
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
			Removed: []string{"logs/warn"},
		},
	}
	want := [][2]string{
		{`{"kind":"data-loss","subject":"logs/warn"}`, "all log lines of warn are deleted"},
		{`{"kind":"delete","subject":"route/warn/ask"}`, "delete route/warn/ask"},
		{`{"kind":"new-permission","subject":"warn","values":[{"after":"read, write","before":null,"name":"tables/a"}]}`,
			"warn can now read, write tables/a"},
		{`{"kind":"public-route","subject":"GET /frost","values":[{"after":"anyone","before":null}]}`, "GET /frost opens to anyone"},
		{`{"kind":"removed-permission","subject":"warn","values":[{"after":null,"before":"send","name":"queues/b"}]}`,
			"warn can no longer send queues/b"},
		{`{"kind":"update","subject":"function/warn","values":[{"after":256,"before":128,"name":"memory"},{"after":5,"before":null,"name":"timeout"}]}`,
			"update function/warn: memory 128 → 256, timeout null → 5"},
		{`{"kind":"weaker-gates","subject":"approvals","values":[{"after":"1","before":"2"}]}`, "gate approvals: 2 → 1"},
	}
	got := p.Facts()
	if len(got) != len(want) {
		t.Fatalf("facts:\n%s", strings.Join(got, "\n"))
	}
	for i, fact := range got {
		if fact != want[i][0] || plan.Sentence(fact) != want[i][1] {
			t.Errorf("%s: %s", fact, plan.Sentence(fact))
		}
	}
	p.Base.Target = manifest.ParseTarget("local/north")
	for i, fact := range p.Facts() {
		if f, ok := plan.ParseFact(fact); !ok || f.Target != "local/north" || plan.Sentence(fact) != want[i][1]+" on local/north" {
			t.Errorf("with its target: %s", fact)
		}
	}
	if _, ok := plan.ParseFact("GET /frost opens to anyone"); ok || plan.Sentence("so it was") != "so it was" {
		t.Error("a sentence is taken for a fact")
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
