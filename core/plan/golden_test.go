package plan_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"rudmar/core/expand"
	"rudmar/core/impact"
	"rudmar/core/manifest"
	"rudmar/core/metrics"
	"rudmar/core/plan"
)

var writeGolden = flag.Bool("write-golden", false, "write the texts of testdata anew: look at what differs")

// golden compares a text with the stored one, word for word.
func golden(t *testing.T, name, got string) {
	t.Helper()
	file := filepath.Join("testdata", name+".txt")
	if *writeGolden {
		if err := os.WriteFile(file, []byte(got), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if got != string(want) {
		t.Errorf("%s is\n%s\nwant\n%s", name, got, want)
	}
}

// textOf returns all that a person reads of a plan, and how its steps wait for each other.
func textOf(t *testing.T, p *plan.Plan) string {
	t.Helper()
	var b strings.Builder
	if err := p.Write(&b, nil); err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(&b, "\n%s\n", strings.Join(p.Changes(), "\n"))
	fmt.Fprintf(&b, "\n%d ms in %d phases, %d unchanged\n", p.Expected, p.Phases, p.Unchanged)
	for _, s := range p.Steps {
		fmt.Fprintf(&b, "%d %s %s, phase %d, %d ms, needs %v, follows %q, only recorded %v, reverts drift %v\n", s.Index,
			s.Change, s.Address, s.Phase, s.Expected, s.Needs, s.Follows, s.RecordOnly, s.RevertsDrift)
	}
	return b.String()
}

// A plan with each kind of change, cause and problem reads as it did.
func TestStoredPlansAreReadable(t *testing.T) {
	usual := map[string]time.Duration{"identity": 10e6, "function": 20e6, "revision": 30e6, "pointer": 5e6, "grant": 2e6}
	was := state(function("warn", "a", 128<<20, "/frost", "tables/a"), function("gone", "a", 128<<20, "/gone", "tables/b"),
		function("kept", "k", 64<<20, "/kept"), function("vanished", "v", 64<<20, "/lost"), function("drifted", "d", 64<<20, "/drift"))
	in := settled(was)
	in.Usual = usual
	in.Base = plan.Base{Version: 9, From: 7}
	in.Base.Place = manifest.Place{Service: "frostline", Stage: "live"}
	in.Files = map[string][]string{"warn": {"warn.py", "lib/frost.py"}}
	in.Wanted = state(function("warn", "b", 256<<20, "/frost", "tables/*"), function("kept", "k", 64<<20, "/kept"),
		function("vanished", "v", 64<<20, "/lost"), function("drifted", "d", 64<<20, "/drift"),
		function("fresh", "f", 64<<20, "/gone", "queues/alerts"), function("adopted", "x", 64<<20, ""))
	var lives []plan.Actual
	for _, l := range in.Actual {
		switch l.Address {
		case "pointer/vanished", "route/vanished/r":
			continue
		case "function/drifted":
			l.Attributes = m{"memory": 512.0 * (1 << 20), "handler": "main:run"}
		}
		lives = append(lives, l)
	}
	for _, w := range function("adopted", "x", 32<<20, "") {
		if w.Kind == "identity" || w.Kind == "revision" || w.Kind == "function" {
			lives = append(lives, actual(w))
		}
	}
	in.Actual = append(lives, plan.Actual{Address: "route/old/r", Kind: "route", Attributes: m{"method": "GET", "path": "/other"}})
	golden(t, "changes", textOf(t, plan.Compute(in)))

	swap := settled(state(function("a", "x", 128<<20, "/frost"), function("b", "x", 128<<20, "/other")))
	swap.Wanted = state(function("a", "x", 128<<20, "/other"), function("b", "x", 128<<20, "/frost"))
	golden(t, "cycle", textOf(t, plan.Compute(swap)))
}

// The outlook's text is compared word for word, including boundary values.
func TestStoredOutlooksAreReadable(t *testing.T) {
	names := func(n int) (out []string) {
		for i := range n {
			out = append(out, fmt.Sprintf("f%d", i))
		}
		return out
	}
	at := time.Date(2026, 3, 3, 7, 30, 0, 0, time.UTC).UnixMilli()
	p := plan.Compute(plan.Inputs{Kinds: kindsOf("function"), Wanted: []expand.Resource{wants("function/warn", "memory", 1.0)}})
	p.Impact = impact.Impact{Cold: names(9)}
	cold := said(p)
	p.Impact.Cold = names(10)
	cold += "\n" + said(p)
	p.Outlook = &impact.Outlook{Over: 3_600_000,
		Tight: []impact.NearLimit{{Function: "a", What: "memory", Limit: 100 << 20, Seen: 90 << 20, Invocations: 1},
			{Function: "b", What: "memory", Limit: 100 << 20, Seen: 91 << 20, Invocations: 2, Stage: "trial"},
			{Function: "c", What: "timeout", Limit: 1000, Seen: 1200, Invocations: 30, Under: true},
			{Function: "d", What: "timeout", Limit: 2000, Seen: 500, Invocations: 30}},
		Schedules: []impact.Fires{{Function: "a", Trigger: "a/often", Before: 48, After: 24, Next: []int64{at, at + 3_600_000}, Zone: "UTC"},
			{Function: "a", Trigger: "a/off", Before: 1, After: 0, Next: []int64{}},
			{Function: "a", Trigger: "a/on", Before: 0, After: 4. / 28, Next: []int64{at}, Zone: "Europe/Oslo"},
			{Function: "a", Trigger: "a/long", Before: 24, After: 24, Next: []int64{}, Overlaps: true, Usually: 90_000, Interval: 60_000},
			{Function: "a", Trigger: "a/moved", Before: 1, After: 1, Next: []int64{}, Lost: 1, Doubled: 2}},
		Costs: []impact.Cost{{Function: "a", Before: "1.0000", After: "2.0000", Currency: "EUR", How: "so"},
			{Function: "b", After: "2.0000", Currency: "EUR", How: "so"}, {Function: "c", Before: "2.0000", Currency: "EUR", How: "so"}},
		Cold: []impact.Waiting{{Function: "f0", PerHour: 7200, StartMs: 500, Callers: 1},
			{Function: "f1", PerHour: 0.5, StartMs: 90_000, Callers: 0.01}},
		Losses: []impact.Loss{{Function: "g", What: "log lines", Count: 1, Oldest: at}, {Function: "g", What: "kept calls", Count: 2}}}
	golden(t, "outlook", cold+"\n\n"+said(p)+"\n")
	p = plan.Compute(plan.Inputs{Base: plan.Base{Version: 2, From: 1}, Kinds: kindsOf("function"),
		Wanted: []expand.Resource{wants("function/a"), wants("function/b")}, Seen: &impact.Figures{Here: map[string]metrics.Sum{}}})
	golden(t, "first", textOf(t, p))
}
