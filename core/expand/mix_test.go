package expand_test

import (
	"slices"
	"strings"
	"testing"

	"rudmar/core/expand"
	"rudmar/core/manifest"
)

// Functions of two versions are combined, each as in its own version; conflicts are reported.
func TestMixedSettings(t *testing.T) {
	old := service(t)
	target := manifest.ParseTarget("local/north")
	in := func(version int) expand.Inputs {
		return expand.Inputs{Version: version, Artifacts: map[string]string{"warn": "sha256:w", "grade": "sha256:g"},
			Secrets: map[string]string{"sms_key": "k"}}
	}
	part := func(s *manifest.Service, version int, has ...string) expand.Part {
		return expand.Part{Service: s, Stage: s.Stage("trial"), Inputs: in(version),
			Has: func(fn string) bool { return slices.Contains(has, fn) }}
	}
	newer := service(t, "192 MiB", "256 MiB")
	mixed, problems := expand.Mix([]expand.Part{part(newer, 9, "warn"), part(old, 3, "grade")}, target)
	if len(problems) > 0 {
		t.Errorf("%+v", problems)
	}
	whole, _ := expand.Expand(newer, newer.Stage("trial"), target, in(9))
	before, _ := expand.Expand(old, old.Stage("trial"), target, in(3))
	if len(mixed) != len(whole) || !slices.IsSortedFunc(mixed,
		func(a, b expand.Resource) int { return strings.Compare(a.Address, b.Address) }) {
		t.Errorf("%d resources, not %d", len(mixed), len(whole))
	}
	for _, r := range mixed {
		from := whole
		if r.Function == "grade" {
			from = before
		}
		i := slices.IndexFunc(from, func(o expand.Resource) bool { return o.Address == r.Address })
		for _, a := range r.Attributes {
			if i < 0 || from[i].Get(a.Name) == nil {
				t.Fatalf("%s %s is in neither", r.Address, a.Name)
			}
		}
		if r.Address == "function/warn" && r.Get("memory") != from[i].Get("memory") {
			t.Errorf("warn has %v", r.Get("memory"))
		}
	}

	// warn subscribes to grade, which stays undeployed.
	if _, problems = expand.Mix([]expand.Part{part(newer, 9, "warn")}, target); len(problems) != 1 ||
		!strings.Contains(problems[0].Message, "warn subscribes to grade") || problems[0].From.Line == 0 {
		t.Errorf("%+v", problems)
	}
	// A route moves from warn to grade: both or none must be selected.
	moved := service(t, `ask: {route: "GET /stations/{station}/frost", open_to: [growers, council]}`, `ask: {route: GET /self, open_to: [growers]}`)
	moved.Function("grade").At("trial").Triggers = slices.Clone(old.Function("warn").At("trial").Triggers[:1])
	if moved.Function("grade").At("trial").Triggers[0].Kind != manifest.RouteTrigger {
		t.Fatal("it is not the route")
	}
	_, problems = expand.Mix([]expand.Part{part(old, 3, "warn"), part(moved, 9, "grade")}, target)
	if len(problems) != 1 || !strings.Contains(problems[0].Message, "would both match the request GET /stations/") {
		t.Errorf("%+v", problems)
	}
	if _, problems = expand.Mix([]expand.Part{part(moved, 9, "warn", "grade")}, target); len(problems) != 0 {
		t.Errorf("%+v", problems)
	}
}
