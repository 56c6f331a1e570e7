package plan_test

import (
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"rudmar/core/canon"
	"rudmar/core/expand"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/resource"
	"rudmar/core/tree"
)

func kinds() []plan.KindSpec {
	inPlace := func(names ...string) []plan.AttributeSpec {
		var out []plan.AttributeSpec
		for _, n := range names {
			out = append(out, plan.AttributeSpec{Name: n, InPlace: true})
		}
		return out
	}
	return []plan.KindSpec{
		{Kind: "identity", Attributes: append(inPlace("owner"), plan.AttributeSpec{Name: "id", Computed: true})},
		{Kind: "grant", Attributes: append(inPlace("verbs", "value"), plan.AttributeSpec{Name: "resource"})},
		{Kind: "function", Attributes: append(inPlace("handler", "env.*"),
			plan.AttributeSpec{Name: "memory", InPlace: true, Unit: "bytes"})},
		{Kind: "revision", Attributes: []plan.AttributeSpec{{Name: "artifact"}, {Name: "configuration"}, {Name: "id"}}},
		{Kind: "pointer", Attributes: inPlace("shares")},
		{Kind: "opening", Attributes: inPlace("to")},
		{Kind: "route", Attributes: inPlace("method", "path")},
	}
}

func wanted(address string, attributes map[string]any, needs ...string) expand.Resource {
	kind, rest, _ := strings.Cut(address, "/")
	function, _, _ := strings.Cut(rest, "/")
	r := expand.Resource{Address: address, Kind: kind, Function: function, Needs: needs}
	for _, name := range slices.Sorted(maps.Keys(attributes)) {
		r.Attributes = append(r.Attributes,
			expand.Attribute{Name: name, Value: attributes[name],
				From: tree.Origin{File: "functions/" + function + "/function.yaml", Line: 3, Rule: tree.OfFunction}})
	}
	return r
}

func recorded(w expand.Resource) plan.Recorded {
	return plan.Recorded{Address: w.Address, Kind: w.Kind, Function: w.Function, Attributes: w.Values(), Needs: w.Needs}
}

func actual(w expand.Resource) plan.Actual {
	tag, _ := canon.Digest(w.Values())
	return plan.Actual{Address: w.Address, Kind: w.Kind, Attributes: w.Values(), Tag: tag}
}

type m = map[string]any

// Each row of the table of outcomes: the desired, recorded and actual state of one resource.
// Resources that are not sorted are refused instead of planned wrongly.
func TestUnsortedResources(t *testing.T) {
	for _, order := range [][2]string{{"logs/b", "logs/a"}, {"logs/a", "logs/a"}} {
		p := plan.Compute(plan.Inputs{Wanted: []expand.Resource{{Address: order[0]}, {Address: order[1]}}})
		if len(p.Steps) != 0 || len(p.Blockers) != 1 || !strings.Contains(p.Blockers[0].Message, "not sorted") || p.Digest == "" {
			t.Errorf("%v: %+v", order, p)
		}
	}
}

func TestOutcomes(t *testing.T) {
	a, b, c := m{"owner": "a"}, m{"owner": "b"}, m{"owner": "c"}
	replaceA, replaceB := m{"resource": "tables/a"}, m{"resource": "tables/b"}
	tests := []struct {
		name                     string
		address                  string
		wanted, recorded, actual m
		want                     string // change, and marks
	}{
		{"same", "identity/f", a, a, a, "none"},
		{"computed attributes do not count", "identity/f", a, a, m{"owner": "a", "id": "x"}, "none"},
		{"update", "identity/f", b, a, a, "update"},
		{"replace", "grant/f/tables/a", replaceB, replaceA, replaceA, "replace"},
		{"drift", "identity/f", a, a, b, "restore"},
		{"live is right already", "identity/f", b, a, b, "update record-only"},
		{"differs from both", "identity/f", b, a, c, "update undoes-drift"},
		{"create", "identity/f", a, nil, nil, "create"},
		{"adopt", "identity/f", a, nil, b, "adopt"},
		{"adopt what is the same", "identity/f", a, nil, a, "adopt record-only"},
		{"cannot be adopted", "grant/f/tables/a", replaceA, nil, replaceB, "problem"},
		{"vanished", "identity/f", a, a, nil, "create"},
		{"delete", "identity/f", nil, a, a, "delete"},
		{"delete what is gone", "identity/f", nil, a, nil, "delete record-only"},
		{"live only", "identity/f", nil, nil, a, "none"},
		{"unknown kind", "balloon/f", a, nil, nil, "problem"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			in := plan.Inputs{Kinds: kinds()}
			if tt.wanted != nil {
				in.Wanted = append(in.Wanted, wanted(tt.address, tt.wanted))
			}
			if tt.recorded != nil {
				in.Record = append(in.Record, recorded(wanted(tt.address, tt.recorded)))
			}
			if tt.actual != nil {
				in.Actual = append(in.Actual, actual(wanted(tt.address, tt.actual)))
			}
			p := plan.Compute(in)
			got := "none"
			if len(p.Blockers) > 0 {
				got = "problem"
			}
			for _, s := range p.Steps {
				got = string(s.Change)
				if s.RecordOnly {
					got += " record-only"
				}
				if s.RevertsDrift {
					got += " undoes-drift"
				}
				if len(s.Because) == 0 {
					t.Error("the step has no reason")
				}
			}
			if got != tt.want {
				t.Errorf("%s, want %s", got, tt.want)
			}
		})
	}
}

// function returns the resources of a function, as expansion does.
func function(name, artifact string, memory float64, route string, grants ...string) []expand.Resource {
	identity, fn, revision, pointer := "identity/"+name, "function/"+name, "revision/"+name, "pointer/"+name
	out := []expand.Resource{wanted(identity, m{"owner": "x"}),
		wanted(fn, m{"handler": "a:b", "memory": memory}, identity)}
	needs := []string{fn}
	for _, g := range grants {
		out = append(out, wanted("grant/"+name+"/"+g, m{"resource": g, "verbs": []any{"read"}}, identity))
		needs = append(needs, "grant/"+name+"/"+g)
	}
	configuration := fmt.Sprint("c", memory)
	id := resource.RevisionID(artifact, configuration)
	out = append(out, wanted(revision, m{"artifact": artifact, "configuration": configuration, "id": id}, needs...),
		wanted(pointer, m{"shares": m{id: 100.0}}, revision))
	if route != "" {
		out = append(out, wanted("opening/"+name+"/r", m{"to": []any{"anyone"}}, pointer),
			wanted("route/"+name+"/r", m{"method": "GET", "path": route}, pointer, "opening/"+name+"/r"))
	}
	slices.SortFunc(out, func(a, b expand.Resource) int { return strings.Compare(a.Address, b.Address) })
	return out
}

func state(resources ...[]expand.Resource) (out []expand.Resource) {
	for _, r := range resources {
		out = append(out, r...)
	}
	slices.SortFunc(out, func(a, b expand.Resource) int { return strings.Compare(a.Address, b.Address) })
	return out
}

func settled(resources []expand.Resource) plan.Inputs {
	in := plan.Inputs{Kinds: kinds()}
	for _, w := range resources {
		in.Record = append(in.Record, recorded(w))
		in.Actual = append(in.Actual, actual(w))
	}
	return in
}

func step(t *testing.T, p *plan.Plan, address string) plan.Step {
	t.Helper()
	for _, s := range p.Steps {
		if s.Address == address {
			return s
		}
	}
	t.Fatalf("there is no step for %s", address)
	return plan.Step{}
}

func TestReasons(t *testing.T) {
	in := settled(state(function("warn", "old", 128, "/frost")))
	in.Wanted = function("warn", "new", 192, "/frost")
	in.Files = map[string][]string{"warn": {"warn.py", "lib/a.py"}}
	p := plan.Compute(in)
	for address, want := range map[string]string{
		"function/warn": "memory", "revision/warn": "changed: warn.py, a.py", "pointer/warn": "revision/warn is replaced",
	} {
		if got := step(t, p, address).Because[0].Text; got != want {
			t.Errorf("%s because %q, want %q", address, got, want)
		}
	}
	memory := step(t, p, "function/warn").Attributes[0]
	if memory.Before != 128.0 || memory.After != 192.0 || memory.Unit != "bytes" {
		t.Errorf("memory: %+v", memory)
	}
	if from := step(t, p, "function/warn").Because[0].From; from == nil ||
		from.File != "functions/warn/function.yaml" || from.Line != 3 {
		t.Errorf("from %+v", from)
	}
	if p.Unchanged != 3 || p.Phases != 3 {
		t.Errorf("%d unchanged, %d waves", p.Unchanged, p.Phases)
	}
}

// Another value of a secret is a reason of its own, without the value.
func TestReasonsOfSecrets(t *testing.T) {
	grant := func(fingerprint string) expand.Resource {
		r := wanted("grant/relay/secrets/key", m{"resource": "secrets/key", "verbs": []any{"read"}, "value": fingerprint})
		r.Secrets = map[string]string{"value": "hush " + fingerprint}
		return r
	}
	in := settled([]expand.Resource{grant("secret 1")})
	in.Wanted = []expand.Resource{grant("secret 2")}
	in.Base.Stage = "live"
	p := plan.Compute(in)
	if s := step(t, p, "grant/relay/secrets/key"); s.Change != resource.Update || len(s.Because) != 2 ||
		s.Because[0].Text != "value: a secret changed in live, or the reference to it" {
		t.Errorf("%+v", s)
	}
	if text, err := canon.Append(nil, p); err != nil || strings.Contains(string(text), "hush") {
		t.Errorf("the plan tells a secret: %v", err)
	}
}

// The reason for a new function's resources is the function, not the line of a value.
func TestNewFunction(t *testing.T) {
	resources := function("warn", "a", 128, "/frost")
	for i := range resources {
		for j := range resources[i].Attributes {
			resources[i].Attributes[j].From = tree.Origin{File: "rudmar.yaml", Line: 3}
			if resources[i].Attributes[j].Name == "artifact" {
				resources[i].Attributes[j].From = tree.Origin{File: "functions/warn/function.yaml", Line: 1}
			}
		}
	}
	for _, s := range plan.Compute(plan.Inputs{Kinds: kinds(), Wanted: resources}).Steps {
		if c := s.Because[0]; c.Text != "function warn is new in this stage" || c.From == nil ||
			c.From.File != "functions/warn/function.yaml" {
			t.Errorf("%s: %+v", s.Address, c)
		}
	}
}

func TestRulesOfOrigins(t *testing.T) {
	old := wanted("function/f", m{"handler": "a:b", "env.X": "1"})
	now := wanted("function/f", m{"handler": "c:d", "env.X": "2"})
	now.Attributes[0].Through = []tree.Origin{{File: "rudmar.yaml", Line: 9, Rule: tree.OfStage}}
	now.Attributes[1].From = tree.Origin{File: "rudmar.yaml", Line: 4, Rule: tree.Defaults}
	in := plan.Inputs{Base: plan.Base{Place: manifest.Place{Stage: "live"}}, Kinds: kinds(),
		Wanted: []expand.Resource{now}, Record: []plan.Recorded{recorded(old)}, Actual: []plan.Actual{actual(old)}}
	var got []string
	for _, c := range plan.Compute(in).Steps[0].Because {
		got = append(got, string(c.Kind)+": "+c.Text)
	}
	want := []string{"setting: env.X: the values set in live", "manifest: env.X", "default: handler: the service's default"}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}

func TestReasonForRemovingAStage(t *testing.T) {
	in := settled(state(function("warn", "a", 128, "/frost", "tables/a")))
	in.Wanted, in.Left = nil, "version 8 removed: declares the stage live"
	for _, s := range plan.Compute(in).Steps {
		if len(s.Because) != 1 || s.Because[0].Kind != plan.ByRemoval || s.Because[0].Text != in.Left {
			t.Errorf("%s: %+v", s.Address, s.Because)
		}
	}
}

func TestOrderOfDeletes(t *testing.T) {
	in := settled(state(function("warn", "a", 128, "/frost", "tables/a"), function("gone", "a", 128, "/gone", "tables/b")))
	in.Wanted = function("warn", "b", 128, "/frost")
	p := plan.Compute(in)
	before := func(first, second string) {
		t.Helper()
		if a, b := step(t, p, first), step(t, p, second); a.Phase >= b.Phase {
			t.Errorf("%s (wave %d) does not come before %s (wave %d)", first, a.Phase, second, b.Phase)
		}
	}
	before("route/gone/r", "opening/gone/r")
	before("opening/gone/r", "pointer/gone")
	before("pointer/gone", "revision/gone")
	before("revision/gone", "function/gone")
	before("function/gone", "identity/gone")
	before("grant/gone/tables/b", "identity/gone")
	// The old code still needs its grant until the pointer has moved.
	before("pointer/warn", "grant/warn/tables/a")
}

func TestRouteWaitsForItsPredecessor(t *testing.T) {
	in := settled(state(function("a", "x", 128, "/frost"), function("b", "x", 128, "/other")))
	in.Wanted = state(function("a", "x", 128, "/moved"), function("b", "x", 128, "/frost"))
	p := plan.Compute(in)
	if a, b := step(t, p, "route/a/r"),
		step(t, p, "route/b/r"); !slices.Contains(b.Needs, a.Index) || len(p.Blockers) > 0 {
		t.Errorf("b's route needs %v, blockers %v", b.Needs, p.Blockers)
	}
	in.Wanted = state(function("a", "x", 128, "/other"), function("b", "x", 128, "/frost"))
	p = plan.Compute(in)
	if len(p.Blockers) != 1 || !strings.Contains(p.Blockers[0].Message, "route/a/r → route/b/r → route/a/r") {
		t.Errorf("a swap: %v", p.Blockers)
	}
}

func TestQuotas(t *testing.T) {
	resources := state(function("cold", "a", 128, "/cold"), function("warm", "b", 128, "/warm"))
	for _, c := range []struct {
		quota plan.Quota
		want  string
	}{
		{plan.Quota{Kind: "function", Limit: 2}, ""},
		{plan.Quota{Kind: "function", Limit: 1},
			"the stage would have 2 resources of kind function; the platform allows 1"},
		{plan.Quota{Kind: "route", PerFunction: true, Limit: 1}, ""},
		{plan.Quota{Kind: "route", PerFunction: true, Limit: 0},
			"cold would have 1 resource of kind route; the platform allows 0"},
	} {
		in := settled(resources)
		in.Wanted, in.Quotas = resources, []plan.Quota{c.quota}
		got, blockers := "", plan.Compute(in).Blockers
		if len(blockers) > 0 {
			got = blockers[0].Message
			if blockers[0].From == nil || !strings.HasPrefix(blockers[0].From.File, "functions/") {
				t.Errorf("%+v: it comes from %+v", c.quota, blockers[0].From)
			}
		}
		if blockers == nil {
			t.Error("no blockers are no list")
		}
		if got != c.want {
			t.Errorf("%+v: %q, not %q", c.quota, got, c.want)
		}
	}
}

func TestRenamesAndRemovalsAreNamed(t *testing.T) {
	in := settled(function("frost-alert", "x", 128, "/frost"))
	in.Base.Version = 7
	in.Wanted = function("warn", "x", 128, "/frost")
	in.Renamed = map[string]string{"warn": "frost-alert"}
	p := plan.Compute(in)
	if got := step(t, p, "function/warn").Because[0].Text; got != "function warn was renamed from frost-alert" {
		t.Error(got)
	}
	if got := step(t, p, "function/frost-alert").Because[0].Text; got != "function frost-alert is now called warn" {
		t.Error(got)
	}
}

// random returns a made-up stage.
func random(dice *rand.Rand) []expand.Resource {
	var out []expand.Resource
	for _, name := range []string{"a", "b", "c", "d"} {
		if dice.IntN(4) == 0 {
			continue
		}
		var grants []string
		for _, g := range []string{"tables/x", "tables/y"} {
			if dice.IntN(2) == 0 {
				grants = append(grants, g)
			}
		}
		route := ""
		if dice.IntN(3) > 0 {
			route = "/" + name
		}
		out = append(out, function(name, fmt.Sprint("v", dice.IntN(3)), float64(128+64*dice.IntN(2)), route, grants...)...)
	}
	return state(out)
}

// apply executes a plan on recorded and actual state, as a deployment does, and checks that dependencies come
// first.
func apply(t *testing.T, in plan.Inputs, p *plan.Plan) plan.Inputs {
	t.Helper()
	record, there := map[string]plan.Recorded{}, map[string]plan.Actual{}
	for _, r := range in.Record {
		record[r.Address] = r
	}
	for _, l := range in.Actual {
		there[l.Address] = l
	}
	steps := slices.Clone(p.Steps)
	slices.SortStableFunc(steps, func(a, b plan.Step) int { return a.Phase - b.Phase })
	done := map[int]bool{}
	for _, s := range steps {
		for _, need := range s.Needs {
			if !done[need] {
				t.Fatalf("%s is done before %s, which it needs", s.Address, p.Steps[need].Address)
			}
		}
		done[s.Index] = true
		if s.RenamedFrom != "" {
			record, there = renamedState(record, there, s)
		}
		if s.Change == resource.Delete {
			for _, r := range record {
				i := slices.IndexFunc(in.Wanted, func(w expand.Resource) bool { return w.Address == r.Address })
				letGo := i >= 0 && !slices.Contains(in.Wanted[i].Needs, s.Address) // unchanged except for its dependencies
				if slices.Contains(r.Needs, s.Address) && !letGo {
					t.Fatalf("%s is deleted while %s needs it", s.Address, r.Address)
				}
			}
			delete(record, s.Address)
			delete(there, s.Address)
			continue
		}
		for _, need := range s.WantNeeds {
			if _, ok := there[need]; !ok {
				t.Fatalf("%s comes before %s, which it needs, is there", s.Address, need)
			}
		}
		record[s.Address] = plan.Recorded{Address: s.Address, Kind: s.Kind, Function: s.Function,
			Attributes: s.Want, Needs: s.WantNeeds}
		tag, _ := canon.Digest(s.Want)
		there[s.Address] = plan.Actual{Address: s.Address, Kind: s.Kind, Attributes: s.Want, Tag: tag}
	}
	out := plan.Inputs{Kinds: in.Kinds, Wanted: in.Wanted}
	for _, k := range slices.Sorted(maps.Keys(record)) {
		out.Record = append(out.Record, record[k])
	}
	for _, k := range slices.Sorted(maps.Keys(there)) {
		out.Actual = append(out.Actual, there[k])
	}
	return out
}

var stages = flag.Uint64("stages", 5000, "how many pairs of made-up stages plans are made between")

// From any state to any other, with any drift: the plan can be carried out in
// its order, and after it the next plan is empty.
func TestPlanConverges(t *testing.T) {
	for seed := range *stages {
		dice := rand.New(rand.NewPCG(seed, 17))
		in := settled(random(dice))
		in.Wanted = random(dice)
		for range dice.IntN(3) { // created outside Rudmar
			if len(in.Actual) == 0 {
				break
			}
			i := dice.IntN(len(in.Actual))
			switch l := in.Actual[i]; {
			case l.Kind == "identity":
				in.Actual[i].Attributes = m{"owner": "somebody else"}
			case l.Kind == "route":
				in.Actual = slices.Delete(in.Actual, i, i+1)
			}
		}
		p := plan.Compute(in)
		if len(p.Blockers) > 0 {
			t.Fatalf("seed %d: %v", seed, p.Blockers)
		}
		if dice.IntN(2) == 0 { // and something is called otherwise now
			in.Renames, in.Renamed = true, map[string]string{"d": "a", "b": "c"}
			p = plan.Compute(in)
		}
		if seed%8 == 0 && plan.Compute(in).Digest != p.Digest || len(p.Digest) != 71 {
			t.Fatalf("seed %d: the same inputs give another digest", seed)
		}
		after := apply(t, in, p)
		if next := plan.Compute(after); !next.Empty() {
			t.Fatalf("seed %d: the next plan has %d steps: %+v", seed, len(next.Steps), next.Steps[0])
		}
		if drift := plan.FindDrift(after.Record, after.Actual, kinds()); len(drift) > 0 {
			t.Fatalf("seed %d: drift after the plan: %+v", seed, drift)
		}
	}
}

func TestDrift(t *testing.T) {
	in := settled(function("warn", "x", 128, "/frost"))
	in.Actual[0].Attributes = m{"memory": 256.0, "handler": "a:b"} // function/warn sorts first
	in.Actual[0].By, in.Actual[0].Changed = "hand-7", 1_700_000_000_000
	in.Actual = append(slices.DeleteFunc(in.Actual, func(l plan.Actual) bool { return l.Kind == "route" }),
		plan.Actual{Address: "route/warn/extra", Kind: "route", By: "hand-8"})
	var got []string
	for _, d := range plan.FindDrift(in.Record, in.Actual, kinds()) {
		text := d.Address
		for _, a := range d.Attributes {
			text += fmt.Sprintf(" %s %v→%v", a.Name, a.Recorded, a.Actual)
		}
		got = append(got, fmt.Sprintf("%s vanished=%v unknown=%v by=%s at=%d", text, d.Vanished, d.Unknown, d.By, d.Changed))
	}
	want := []string{"function/warn memory 128→256 vanished=false unknown=false by=hand-7 at=1700000000000",
		"route/warn/extra vanished=false unknown=true by=hand-8 at=0", "route/warn/r vanished=true unknown=false by= at=0"}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
}

func TestCriticalPath(t *testing.T) {
	in := plan.Inputs{Kinds: kinds(), Wanted: state(function("a", "x", 128, ""), function("b", "x", 128, ""))}
	in.Usual = map[string]time.Duration{"identity": 10e6, "function": 20e6, "revision": 30e6, "pointer": 5e6}
	if p := plan.Compute(in); p.Expected != 65 {
		t.Errorf("%d ms expected, want 65", p.Expected)
	}
	var many []expand.Resource // 100 of 65 ms each, eight at once
	for i := range 100 {
		many = append(many, function(fmt.Sprintf("f%02d", i), "x", 128, "")...)
	}
	in.Wanted = state(many)
	if p := plan.Compute(in); p.Expected != 100*65/plan.Parallelism {
		t.Errorf("%d ms expected for a hundred, want %d", p.Expected, 100*65/plan.Parallelism)
	}
}
