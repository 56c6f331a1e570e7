package plan_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"rudmar/core/canon"
	"rudmar/core/expand"
	"rudmar/core/impact"
	"rudmar/core/metrics"
	"rudmar/core/plan"
	"rudmar/core/tree"
)

// wants makes a wanted resource; names and values alternate.
func wants(address string, attributes ...any) expand.Resource {
	kind, rest, _ := strings.Cut(address, "/")
	fn, _, _ := strings.Cut(rest, "/")
	r := expand.Resource{Address: address, Kind: kind, Function: fn}
	for i := 0; i < len(attributes); i += 2 {
		r.Attributes = append(r.Attributes, expand.Attribute{Name: attributes[i].(string), Value: attributes[i+1],
			From: tree.Origin{File: fn + ".yaml", Line: int32(i + 1), Rule: tree.OfFunction}})
	}
	return r
}

// asPut returns the record and actual state of a former desired state.
func asPut(list ...expand.Resource) (record []plan.Recorded, actual []plan.Actual) {
	for _, w := range list {
		record = append(record, plan.Recorded{Address: w.Address, Kind: w.Kind, Function: w.Function, Attributes: w.Values()})
		actual = append(actual, plan.Actual{Address: w.Address, Kind: w.Kind, Attributes: w.Values(), Tag: "t"})
	}
	return record, actual
}

func kindsOf(names ...string) []plan.KindSpec {
	var out []plan.KindSpec
	for _, name := range names {
		out = append(out, plan.KindSpec{Kind: name, Attributes: []plan.AttributeSpec{
			{Name: "memory", InPlace: true, Unit: "bytes"}, {Name: "timeout", InPlace: true, Unit: "ms"},
			{Name: "resource"}, {Name: "source"}}})
	}
	return out
}

var everyKind = []string{"identity", "grant", "logs", "function", "revision", "pointer", "opening", "route", "schedule",
	"subscription"}

func said(p *plan.Plan) string {
	var lines []string
	for _, l := range p.ImpactLines() {
		lines = append(lines, strings.TrimSpace(fmt.Sprintf("%s %s: %s | %s", l.Severity, l.Kind, l.Text, l.How)))
	}
	return strings.Join(lines, "\n")
}

// Each impact is reported with its evidence, most severe first.
func TestSentences(t *testing.T) {
	now := time.Date(2026, 3, 3, 7, 30, 0, 0, time.UTC)
	before := []expand.Resource{
		wants("function/gone", "memory", 128.0*(1<<20), "timeout", 1000.0), wants("logs/gone"),
		wants("function/warn", "memory", 256.0*(1<<20), "timeout", 5000.0),
		wants("grant/relay/secrets/key", "resource", "secrets/key", "verbs", []any{"read"}),
		wants("grant/warn/tables/a", "resource", "tables/a", "verbs", []any{"read"}),
		wants("opening/warn/ask", "to", []any{"members"}), wants("opening/warn/old", "to", []any{"growers"}),
		wants("route/warn/ask", "method", "GET", "path", "/frost", "enabled", true),
		wants("route/warn/old", "method", "GET", "path", "/old", "enabled", true),
		wants("schedule/warn/sweep", "cron", "0 8 * * *", "zone", "UTC", "enabled", true),
		wants("subscription/relay/in", "source", "queue/alerts", "enabled", true),
	}
	after := []expand.Resource{
		wants("function/warn", "memory", 128.0*(1<<20), "timeout", 1000.0),
		wants("grant/relay/secrets/key", "resource", "secrets/key", "verbs", []any{"read"}),
		wants("grant/warn/queues/alerts", "resource", "queues/alerts", "verbs", []any{"send"}),
		wants("grant/warn/tables/*", "resource", "tables/*", "verbs", []any{"read"}),
		wants("opening/warn/ask", "to", []any{"anyone"}),
		wants("pointer/warn", "shares", map[string]any{"r-2": 100.0}),
		wants("route/warn/ask", "method", "GET", "path", "/frost", "enabled", true),
		wants("schedule/warn/sweep", "cron", "0 8 * * *", "zone", "America/New_York", "enabled", true),
		wants("subscription/relay/in", "source", "queue/alerts", "enabled", true),
	}
	record, actual := asPut(before...)
	sum := metrics.Sum{Invocations: 3000, TotalMs: 3000 * 900, MaxMs: 4000, MemoryPeak: 200 << 20,
		Durations: metrics.Histogram{metrics.Bucket(2000): 3000}}
	base := plan.Base{Version: 2, From: 1}
	base.Stage = "live"
	p := plan.Compute(plan.Inputs{Base: base, Wanted: after, Record: record, Actual: actual,
		Kinds: kindsOf(everyKind...), Rules: []impact.RuleChange{{Rule: "soak", Before: "1h", After: "none", Loosens: true}},
		Seen: &impact.Figures{Now: now, Over: 24 * time.Hour, Here: map[string]metrics.Sum{"warn": sum, "gone": sum},
			Triggers: map[string]int{"warn/old": 7}, Rates: metrics.Rates{PerGiBSecond: "0.00001", Currency: "EUR"},
			Held: []impact.Retained{{Function: "gone", What: "log lines", Count: 12, Oldest: now.AddDate(0, 0, -3)}}}})
	for _, want := range []string{
		"critical weaker-gates: live: soak 1h → none",
		"critical public-route: GET /frost opens to anyone (now members)",
		"critical narrower-access: GET /old is no longer available to growers | 7 requests in the last 24 hours",
		"critical new-permission: warn can now read tables/*; already could read tables/a | * includes all",
		"review new-permission: warn can now send queues/alerts",
		"review indirect-permission: warn can now indirectly, through queues/alerts → relay: read secrets/key",
		"critical memory: memory of warn is 128 MiB, below its observed peak | a peak of 200 MiB in 3000 invocations in",
		"critical timeout: timeout of warn is 1s, below its observed p99 | a p99 of",
		"info schedule: warn/sweep runs once a day | next Tue 3 Mar 08:00, Wed 4 Mar 08:00",
		"critical data-loss: 12 log lines of gone are deleted | the oldest from 28 February 2026",
		"info cost: warn costs 0.1013 EUR per month, now 0.2025 | 90000 invocations",
		"info cost: gone no longer costs 0.1013 EUR per month",
		"cold-start: warn starts cold, and about 0.1 callers wait for it | 125 invocations per hour",
	} {
		if !strings.Contains(said(p), want) {
			t.Errorf("it does not say %q", want)
		}
	}
	if t.Failed() {
		t.Log(said(p))
	}
	tones := p.ImpactLines()
	if !slices.IsSortedFunc(tones, func(a, b plan.ImpactLine) int {
		rank := map[plan.Severity]int{plan.Critical: 0, plan.Review: 1, plan.Info: 2}
		return rank[a.Severity] - rank[b.Severity]
	}) {
		t.Errorf("the worst is not first: %v", tones)
	}
	var text strings.Builder
	if err := p.Write(&text, nil); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{p.Summary(), "critical public route: GET /frost", "function/warn", "memory: 256 MiB → 128 MiB", p.Digest} {
		if !strings.Contains(text.String(), want) {
			t.Errorf("the text does not have %q:\n%s", want, text.String())
		}
	}
	bare := *p
	bare.Outlook = nil
	if strings.Contains(said(&bare), "EUR") || !strings.Contains(said(&bare), "next invocation is a cold start: warn") ||
		!strings.Contains(said(&bare), "all log lines of gone") {
		t.Errorf("without an outlook: %s", said(&bare))
	}
}

// A plan's summary describes the changes of functions.
func TestSummary(t *testing.T) {
	small, big := wants("function/a", "memory", 1.0), wants("function/a", "memory", 2.0)
	base := plan.Base{Version: 2, From: 1}
	base.Stage = "live"
	record, actual := asPut(small)
	drifted := []plan.Actual{{Address: "function/a", Kind: "function", Attributes: map[string]any{"memory": 3.0}}}
	for _, tt := range []struct {
		in   plan.Inputs
		want string
	}{
		{plan.Inputs{Wanted: []expand.Resource{small}}, "Version 2 creates 1 function in live: 1 step in 1 phase, about 10 ms."},
		{plan.Inputs{Wanted: []expand.Resource{big}, Record: record, Actual: actual, Draft: true},
			"This edit updates 1 function in live: 1 step in 1 phase, about 10 ms."},
		{plan.Inputs{Record: record, Actual: actual}, "Version 2 deletes 1 function in live: 1 step in 1 phase, about 10 ms."},
		{plan.Inputs{Wanted: []expand.Resource{small}, Record: record, Actual: drifted},
			"Version 2 reverts drift of 1 function in live: 1 step in 1 phase, about 10 ms."},
		{plan.Inputs{Wanted: []expand.Resource{small}, Record: record, Actual: actual}, "Version 2 changes nothing in live."},
		{plan.Inputs{Wanted: []expand.Resource{small, wants("function/b"), wants("function/c")},
			Usual: map[string]time.Duration{"function": 90 * time.Second}},
			"Version 2 creates 3 functions in live: 3 steps in 1 phase, about 2 min."},
	} {
		tt.in.Base, tt.in.Kinds = base, kindsOf("function")
		if got := plan.Compute(tt.in).Summary(); got != tt.want {
			t.Errorf("%s\nwant %s", got, tt.want)
		}
	}
	base.From = 2
	if got := plan.Compute(plan.Inputs{Base: base}).Summary(); got != "live already matches version 2." {
		t.Error(got)
	}
}

// One cause is one line: dependent steps name it.
func TestDependentStepsAreFolded(t *testing.T) {
	of := func(fn, memory, artifact, configuration string) []expand.Resource {
		return []expand.Resource{wants("function/"+fn, "memory", memory), wants("identity/" + fn), wants("logs/" + fn),
			wants("opening/"+fn+"/ask", "to", []any{"members"}),
			wants("pointer/"+fn, "shares", artifact+configuration), wants("revision/"+fn, "artifact", artifact, "configuration", configuration),
			wants("route/"+fn+"/ask", "method", "GET", "path", "/"+fn)}
	}
	for _, tt := range []struct {
		name          string
		before, after []expand.Resource
		files         map[string][]string
		want          string
	}{
		{"a changed limit", of("a", "1", "x", "c"), of("a", "2", "x", "d"), nil,
			"function/a pointer/a→function/a revision/a→function/a"},
		{"changed code", of("a", "1", "x", "c"), of("a", "1", "y", "c"), map[string][]string{"a": {"a.py"}},
			"pointer/a→revision/a revision/a"},
		{"both", of("a", "1", "x", "c"), of("a", "2", "y", "d"), map[string][]string{"a": {"a.py"}},
			"function/a pointer/a→revision/a revision/a"},
		{"a new function", nil, of("a", "1", "x", "c"), nil, "function/a identity/a→function/a logs/a→function/a " +
			"opening/a/ask→route/a/ask pointer/a→function/a revision/a→function/a route/a/ask"},
		{"one that goes", of("a", "1", "x", "c"), nil, nil, "function/a identity/a→function/a logs/a→function/a " +
			"opening/a/ask→function/a pointer/a→function/a revision/a→function/a route/a/ask→function/a"},
	} {
		record, actual := asPut(tt.before...)
		p := plan.Compute(plan.Inputs{Wanted: tt.after, Record: record, Actual: actual, Kinds: kindsOf(everyKind...), Files: tt.files})
		var got []string
		for _, s := range p.Steps {
			text := s.Address
			if s.Follows != "" {
				text += "→" + s.Follows
			}
			got = append(got, text)
		}
		slices.Sort(got)
		if text := strings.Join(got, " "); text != tt.want {
			t.Errorf("%s: %s\nwant %s", tt.name, text, tt.want)
		}
	}
}

// A route that matches requests that another gives up waits for it, by the matched requests: parameter names
// and disabled routes make no difference.
func TestRoutesMoveBetweenFunctions(t *testing.T) {
	route := func(fn, path string, on bool) expand.Resource {
		return wants("route/"+fn+"/ask", "method", "GET", "path", path, "enabled", on)
	}
	for _, tt := range []struct {
		name          string
		before, after []expand.Resource
		waits         string // which step waits for which
		problem       string
	}{
		{"another name of the parameter", []expand.Resource{route("a", "/s/{id}", true)},
			[]expand.Resource{route("b", "/s/{key}", true)}, "route/b/ask for route/a/ask", ""},
		{"moved away", []expand.Resource{route("a", "/s", true)},
			[]expand.Resource{route("a", "/t", true), route("b", "/s", true)}, "route/b/ask for route/a/ask", ""},
		{"switched off", []expand.Resource{route("a", "/s", true)},
			[]expand.Resource{route("a", "/s", false), route("b", "/s", true)}, "route/b/ask for route/a/ask", ""},
		{"it was off", []expand.Resource{route("a", "/s", false)}, []expand.Resource{route("b", "/s", true)}, "", ""},
		{"they change places", []expand.Resource{route("a", "/s", true), route("b", "/t", true)},
			[]expand.Resource{route("a", "/t", true), route("b", "/s", true)}, "route/a/ask for route/b/ask, route/b/ask for route/a/ask",
			"deliver the change in two versions"},
	} {
		record, actual := asPut(tt.before...)
		p := plan.Compute(plan.Inputs{Wanted: tt.after, Record: record, Actual: actual, Kinds: kindsOf("route")})
		var waits []string
		for _, s := range p.Steps {
			for _, need := range s.Needs {
				waits = append(waits, s.Address+" for "+p.Steps[need].Address)
			}
		}
		slices.Sort(waits)
		problem := ""
		for _, pr := range p.Blockers {
			problem += pr.Message
		}
		if got := strings.Join(waits, ", "); got != tt.waits || !strings.Contains(problem, tt.problem) ||
			tt.problem == "" && problem != "" || len(p.Impact.Gaps) != len(waits) {
			t.Errorf("%s: %q, %q, %v", tt.name, got, problem, p.Impact.Gaps)
		}
	}
}

// Unmanaged resources are ignored, block a plan that needs their address, and are deleted on request.
func TestUnmanagedResources(t *testing.T) {
	foreign := plan.Actual{Address: "route/odd/ask", Kind: "route", Tag: "t7",
		Attributes: map[string]any{"method": "GET", "path": "/s/{x}"}}
	in := plan.Inputs{Actual: []plan.Actual{foreign}, Kinds: kindsOf("route")}
	if p := plan.Compute(in); !p.Empty() || len(p.Blockers) > 0 {
		t.Errorf("%v %v", p.Steps, p.Blockers)
	}
	in.Wanted = []expand.Resource{wants("route/warn/ask", "method", "GET", "path", "/s/{id}")}
	if p := plan.Compute(in); len(p.Blockers) != 1 || !strings.Contains(p.Blockers[0].Message, "already handled by route/odd/ask") {
		t.Errorf("%v", p.Blockers)
	}
	in.Deletions = []string{"route/odd/ask", "route/not/there", "route/odd/ask"}
	p := plan.Compute(in)
	if len(p.Blockers) > 0 || len(p.Steps) != 2 || p.Steps[1].Change != "delete" || p.Steps[1].Tag != "t7" ||
		!slices.Equal(p.Steps[0].Needs, []int{1}) {
		t.Errorf("%v %+v", p.Blockers, p.Steps)
	}
	in.Record = []plan.Recorded{{Address: "route/odd/ask", Kind: "route", Function: "odd"}}
	in.Wanted = append([]expand.Resource{wants("route/odd/ask", "method", "GET", "path", "/s/{x}")}, in.Wanted...)
	for _, s := range plan.Compute(in).Steps {
		if s.Change == "delete" {
			t.Errorf("what is Rudmar's own is removed: %+v", s)
		}
	}
}

// Two functions with the same former name are reported, and the plan is computed.
func TestMergedResources(t *testing.T) {
	record, actual := asPut(wants("identity/old"))
	in := plan.Inputs{Wanted: []expand.Resource{wants("identity/a"), wants("identity/b")}, Record: record, Actual: actual,
		Kinds: kindsOf("identity"), Renames: true, Renamed: map[string]string{"a": "old", "b": "old"}}
	first := plan.Compute(in)
	if len(first.Blockers) != 1 || !strings.Contains(first.Blockers[0].Message, "a and b are both renamed from old") {
		t.Errorf("%v", first.Blockers)
	}
	for range 50 {
		if p := plan.Compute(in); p.Digest != first.Digest {
			t.Fatal("the same inputs give another plan")
		}
	}
}

// What vanished and is to become something else tells both.
func TestDeletedAndChangedResources(t *testing.T) {
	record, _ := asPut(wants("function/a", "memory", 1.0))
	p := plan.Compute(plan.Inputs{Wanted: []expand.Resource{wants("function/a", "memory", 2.0)}, Record: record,
		Kinds: kindsOf("function")})
	if b := p.Steps[0].Because; len(b) != 2 || b[0].Kind != plan.ByVanished || b[1].Kind != plan.ByManifest {
		t.Errorf("%+v", b)
	}
}

// Two plans are compared by their steps and impact.
func TestAgainst(t *testing.T) {
	make := func(memory float64, more ...expand.Resource) *plan.Plan {
		return plan.Compute(plan.Inputs{Wanted: append([]expand.Resource{wants("function/a", "memory", memory)}, more...),
			Kinds: kindsOf("function", "grant")})
	}
	grant := wants("grant/a/tables/t", "resource", "tables/t", "verbs", []any{"read"})
	one, two := make(1), make(2, grant)
	d := two.Against(one)
	if len(d.Added) != 1 || d.Added[0].Address != grant.Address || len(d.Gone) != 0 || len(d.Changed) != 1 ||
		len(d.ImpactLines) != 1 || d.ImpactLines[0].Text != "a can now read tables/t" || len(d.RemovedImpact) != 0 {
		t.Errorf("%+v", d)
	}
	if back := one.Against(two); len(back.Gone) != 1 || len(back.RemovedImpact) != 1 {
		t.Errorf("%+v", back)
	}
	if same := one.Against(make(1)); len(same.Added)+len(same.Gone)+len(same.Changed)+len(same.ImpactLines) != 0 {
		t.Errorf("%+v", same)
	}
}

// Ignored drift is not a step, nor are its consequences, unless something else changes the resource, or the
// value is another one.
func TestIgnoredDrift(t *testing.T) {
	mine := []expand.Resource{wants("function/a", "memory", 1.0, "timeout", 5.0), wants("pointer/a", "shares", "r1"),
		wants("revision/a", "configuration", "c1")}
	byHand := []expand.Resource{wants("function/a", "memory", 2.0, "timeout", 5.0), wants("pointer/a", "shares", "r2"),
		wants("revision/a", "configuration", "c2")}
	record, _ := asPut(mine...)
	_, actual := asPut(byHand...)
	left := []plan.IgnoredDrift{{Address: "function/a", Attribute: "memory", Actual: 2.0}}
	in := plan.Inputs{Wanted: mine, Record: record, Actual: actual, Kinds: kindsOf(everyKind...), LeftAlone: left}
	if p := plan.Compute(in); !p.Empty() {
		t.Errorf("what is left is planned: %v", p.Steps)
	}
	for name, change := range map[string]func(in *plan.Inputs){
		"nothing is left": func(in *plan.Inputs) { in.LeftAlone = nil },
		"another value": func(in *plan.Inputs) {
			in.LeftAlone = []plan.IgnoredDrift{{Address: "function/a", Attribute: "memory", Actual: 3.0}}
		},
		"another attribute": func(in *plan.Inputs) {
			in.LeftAlone = []plan.IgnoredDrift{{Address: "function/a", Attribute: "timeout", Actual: 2.0}}
		},
		"another reason, too": func(in *plan.Inputs) { in.Wanted[0] = wants("function/a", "memory", 1.0, "timeout", 6.0) },
	} {
		other := in
		other.Wanted = slices.Clone(mine)
		change(&other)
		if p := plan.Compute(other); p.Empty() {
			t.Errorf("%s: nothing is planned", name)
		}
	}
	gone := in
	gone.Actual, gone.LeftAlone = nil, []plan.IgnoredDrift{{Address: "function/a"}, {Address: "pointer/a"}, {Address: "revision/a"}}
	if p := plan.Compute(gone); !p.Empty() {
		t.Errorf("what is left away is planned: %v", p.Steps)
	}
	now := time.UnixMilli(1000)
	drift := plan.FindDrift(record, actual, kindsOf(everyKind...))
	first := plan.Seen(drift, nil, nil, now)
	then := plan.Seen(drift, first, []plan.IgnoredDrift{{Address: "function/a", Attribute: "memory", Actual: 2.0, Until: 5000}}, now.Add(3*time.Second))
	ended := plan.Seen(drift, then, []plan.IgnoredDrift{{Address: "function/a", Attribute: "memory", Actual: 2.0, Until: 5000}}, now.Add(4*time.Second))
	var open []bool
	for _, seen := range [][]plan.Drift{first, then, ended} {
		for i := range seen {
			open = append(open, seen[i].Open())
			if seen[i].Since != 1000 || i == 0 && seen[i].Attributes[0].Since != 1000 || (i > 0) != (seen[i].Follows == "function/a") {
				t.Errorf("%+v", seen[i])
			}
		}
	}
	if want := []bool{true, false, false, false, false, false, true, false, false}; !slices.Equal(open, want) {
		t.Errorf("open: %v, want %v", open, want)
	}
}

// The digest is of encoding/json's output in canonical form: it can be computed from the document.
func TestDigestCoversTheDocument(t *testing.T) {
	for seed := range uint64(300) {
		dice := rand.New(rand.NewPCG(seed, 31))
		in := settled(random(dice))
		in.Wanted = random(dice)
		in.Rules = []impact.RuleChange{{Rule: "soak", Before: "1h", After: "<none> \u2028"}}
		in.Seen = &impact.Figures{Now: time.Unix(1_700_000_000, 0), Over: time.Hour}
		if seed%3 == 0 {
			in.Files = map[string][]string{"a": {"a.py", "b.py"}}
			in.Deletions, in.Draft = []string{"route/x/y"}, true
		}
		if len(in.Actual) > 0 {
			in.Actual[0].Attributes = m{"owner": "somebody"}
		}
		p := plan.Compute(in)
		var document map[string]any
		text, err := json.Marshal(p)
		if err := errors.Join(err, json.Unmarshal(text, &document)); err != nil {
			t.Fatal(err)
		}
		delete(document, "digest")
		delete(document, "outlook")
		if want, err := canon.Digest(document); err != nil || want != p.Digest {
			t.Fatalf("seed %d: the digest is %s, of the document %s (%v)", seed, p.Digest, want, err)
		}
	}
}
