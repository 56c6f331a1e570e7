package delivery_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/expression"
	"rudmar/core/manifest"
)

func states() []delivery.State {
	return []delivery.State{delivery.Waiting, delivery.Planning, delivery.Deploying, delivery.Shifting, delivery.Testing, delivery.Settled,
		delivery.Failed, delivery.Rejected, delivery.RolledBack, delivery.Superseded}
}

func eventsOf() []delivery.Event {
	return []delivery.Event{delivery.Enter, delivery.Planned, delivery.Deployed, delivery.Proved, delivery.Fail,
		delivery.Retry, delivery.Reject, delivery.RollBack, delivery.Supersede, delivery.Redeploy, delivery.Reask,
		delivery.Share, delivery.Shifted}
}

func TestNext(t *testing.T) {
	allowed := map[string]delivery.State{
		"waiting enter": delivery.Planning, "planning planned": delivery.Deploying, "planning deployed": delivery.Testing,
		"deploying deployed": delivery.Testing, "testing tested": delivery.Settled,
		"planning share": delivery.Shifting, "deploying share": delivery.Shifting, "shifting shifted": delivery.Testing,
		"shifting fail": delivery.Failed, "shifting roll back": delivery.RolledBack,
		"planning fail": delivery.Failed, "deploying fail": delivery.Failed, "testing fail": delivery.Failed,
		"failed retry":   delivery.Planning,
		"waiting reject": delivery.Rejected, "failed reject": delivery.Rejected, "settled roll back": delivery.RolledBack,
		"failed roll back": delivery.RolledBack, "testing roll back": delivery.RolledBack, "deploying roll back": delivery.RolledBack,
		"planning reask": delivery.Waiting, "deploying reask": delivery.Waiting,
		"waiting supersede": delivery.Superseded, "settled redeploy": delivery.Planning, "rolled-back redeploy": delivery.Planning,
		"superseded redeploy": delivery.Planning, "failed redeploy": delivery.Planning,
	}
	for _, s := range states() {
		for _, e := range eventsOf() {
			next, err := delivery.Next(s, e)
			want, ok := allowed[string(s)+" "+string(e)]
			switch {
			case ok && (next != want || err != nil):
				t.Errorf("%s while %s: %s %v, want %s", e, s, next, err, want)
			case !ok && (!errors.Is(err, delivery.ErrTransition) || next != s):
				t.Errorf("%s while %s was taken: %s", e, s, next)
			}
		}
	}
}

// From every state there is a way in from the first, and a way to an end.
func TestEveryStateHasTransitions(t *testing.T) {
	reaches := func(from delivery.State) map[delivery.State]bool {
		seen, todo := map[delivery.State]bool{from: true}, []delivery.State{from}
		for len(todo) > 0 {
			s := todo[0]
			todo = todo[1:]
			for _, e := range eventsOf() {
				if next, err := delivery.Next(s, e); err == nil && !seen[next] {
					seen[next], todo = true, append(todo, next)
				}
			}
		}
		return seen
	}
	for _, s := range states() {
		if !reaches(delivery.Waiting)[s] {
			t.Errorf("nothing comes to be %s", s)
		}
		ends := false
		for end := range reaches(s) {
			ends = ends || delivery.Over(end)
		}
		if !ends {
			t.Errorf("what is %s never ends", s)
		}
	}
}

func TestActiveAndFinishedStates(t *testing.T) {
	for _, s := range states() {
		if delivery.Moving(s) && delivery.Over(s) {
			t.Errorf("%s moves and is over", s)
		}
	}
}

func TestQueueOrder(t *testing.T) {
	p := func(version int, s delivery.State, ready bool) delivery.Standing {
		return delivery.Standing{Version: version, Turn: int64(version), State: s, Ready: ready}
	}
	tests := []struct {
		name   string
		places []delivery.Standing
		want   string
	}{
		{"nobody", nil, "0 []"},
		{"one that waits for its gates", []delivery.Standing{p(1, delivery.Waiting, false)}, "0 []"},
		{"one that is ready", []delivery.Standing{p(1, delivery.Waiting, true)}, "1 []"},
		{"the newest overtakes", []delivery.Standing{p(1, delivery.Waiting, true), p(2, delivery.Waiting, true)}, "2 [1]"},
		{"a newer one that is not ready overtakes nobody",
			[]delivery.Standing{p(1, delivery.Waiting, true), p(2, delivery.Waiting, false)}, "1 []"},
		{"an older one that never got ready",
			[]delivery.Standing{p(1, delivery.Waiting, false), p(2, delivery.Waiting, true)}, "2 [1]"},
		{"one moves", []delivery.Standing{p(1, delivery.Deploying, false), p(2, delivery.Waiting, true)}, "0 []"},
		{"older than what is settled", []delivery.Standing{p(1, delivery.Waiting, false), p(2, delivery.Settled, false)},
			"0 [1]"},
		{"newer than what is settled", []delivery.Standing{p(3, delivery.Waiting, true), p(2, delivery.Settled, false)},
			"3 []"},
		{"an old one that came again", []delivery.Standing{{Version: 1, Turn: 9, State: delivery.Waiting, Ready: true},
			p(3, delivery.Settled, false), p(4, delivery.Waiting, true)}, "1 [4]"},
		{"what was rolled back does not count", []delivery.Standing{p(3, delivery.RolledBack, false), p(2, delivery.Waiting, true)},
			"2 []"},
	}
	for _, tt := range tests {
		next, overtaken := delivery.Turn(tt.places)
		if got := fmt.Sprint(next, " ", overtaken); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
}

// With any order of events, at most one delivery is active in a stage, and a version enters only after all
// newer ready ones.
func TestOneDeliveryAtATime(t *testing.T) {
	for seed := range uint64(300) {
		dice := rand.New(rand.NewPCG(seed, 2))
		var places []delivery.Standing
		for version := 1; version < 30; version++ {
			places = append(places, delivery.Standing{Version: version, Turn: int64(version), State: delivery.Waiting,
				Ready: dice.IntN(2) == 0})
			next, overtaken := delivery.Turn(places)
			moving := 0
			for i := range places {
				p := &places[i]
				for _, v := range overtaken {
					if p.Version == v {
						p.State, _ = delivery.Next(p.State, delivery.Supersede)
					}
				}
				if p.Version == next {
					p.State, _ = delivery.Next(p.State, delivery.Enter)
				}
				if delivery.Moving(p.State) {
					moving++
				}
				if delivery.Moving(p.State) && dice.IntN(2) == 0 {
					e := []delivery.Event{delivery.Deployed, delivery.Fail, delivery.Proved}[dice.IntN(3)]
					if s, err := delivery.Next(p.State, e); err == nil {
						p.State = s
					}
				}
			}
			if moving > 1 {
				t.Fatalf("seed %d: %d move at once: %v", seed, moving, places)
			}
		}
	}
}

func stage() *manifest.Stage {
	return &manifest.Stage{Name: "live", After: "preview", When: manifest.OnRequest, Gates: manifest.Gates{
		Cases: []string{"all"}, Soak: &manifest.Soak{For: 30 * time.Minute, MinInvocations: 200, ErrorsUnder: 0.01},
		Approvals: &manifest.Approvals{Count: 2, From: "growers-council"},
		Window:    &manifest.Window{Days: "mon-thu", Hours: "08:00-15:00", Zone: "Europe/Oslo"},
		Rules:     []manifest.GateRule{{Name: "nothing-deleted", Expression: "plan.deletes.size() == 0"}},
	}}
}

var shown = []string{`{"kind":"create","subject":"route/warn/ask"}`}

func fulfilled() delivery.Facts {
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	yes := func(person string) delivery.Approval {
		return delivery.Approval{Person: person, Groups: []string{"growers-council"}, Shown: shown}
	}
	return delivery.Facts{
		Now: now, Branch: "main", Authors: []string{"wren"}, Requested: "wren", Gone: map[string]bool{}, Impact: shown,
		Earlier: map[string]delivery.Earlier{"preview": {State: delivery.Settled, Since: now.Add(-time.Hour),
			Metrics: delivery.Metrics{Invocations: 400, Errors: 1},
			Cases: []delivery.CaseResult{{Function: "warn", Name: "a mild night", Passed: true},
				{Function: "warn", Name: "a cold night", Passed: true}}}},
		Approvals: []delivery.Approval{yes("linden"), yes("teasel")},
		Rules:     &expression.Rules{},
	}
}

// A soak ends exactly at its time, and an approval gate without a group does not exclude anybody.
func TestGateLimits(t *testing.T) {
	gate := func(kind string, change func(f *delivery.Facts)) delivery.Gate {
		f := fulfilled()
		change(&f)
		for _, g := range delivery.Gates(t.Context(), delivery.Entry{Own: stage()}, f) {
			if g.Kind == kind {
				return g
			}
		}
		t.Fatalf("there is no gate of the kind %s", kind)
		return delivery.Gate{}
	}
	for ran, want := range map[time.Duration]delivery.GateState{30 * time.Minute: delivery.GatePassed,
		30*time.Minute - time.Millisecond: delivery.GateWaiting} {
		got := gate(delivery.SoakGate, func(f *delivery.Facts) {
			e := f.Earlier["preview"]
			e.Since = f.Now.Add(-ran)
			f.Earlier["preview"] = e
		})
		if got.State != want {
			t.Errorf("after %v: %+v", ran, got)
		}
	}
	for _, authors := range [][]string{nil, {"wren"}} {
		got := gate(delivery.ApprovalsGate, func(f *delivery.Facts) { f.Approvals, f.Authors = nil, authors })
		if strings.Contains(got.Reason, "pushed this version") != (len(authors) > 0) {
			t.Errorf("authors %v: %s", authors, got.Reason)
		}
	}
}

// Without a plan a rule waits, with the reason if it is known.
func TestRulesNeedAPlan(t *testing.T) {
	own := stage()
	own.Gates = manifest.Gates{Rules: []manifest.GateRule{{Name: "small", Expression: "plan.steps < 3"}}}
	for unplanned, want := range map[string]string{"": "waiting for a plan to evaluate",
		"local/north is unreachable": "waiting for a plan to evaluate: local/north is unreachable"} {
		f := fulfilled()
		f.Rules, f.Unplanned = nil, unplanned
		for _, g := range delivery.Gates(t.Context(), delivery.Entry{Own: own}, f) {
			if g.Kind == delivery.RuleGate && (g.State != delivery.GateWaiting || g.Reason != want) {
				t.Errorf("%+v, want %q", g, want)
			}
		}
	}
}

// TestBlockers distinguishes gates that are not met from gates that wait.
func TestBlockers(t *testing.T) {
	gate := func(kind, name string, state delivery.GateState) delivery.Gate {
		return delivery.Gate{Kind: kind, Name: name, State: state, Reason: name + " " + string(state)}
	}
	settled := gate(delivery.BeforeGate, "before", delivery.GatePassed)
	window := gate(delivery.WindowGate, "window", delivery.GateWaiting)
	rule := gate(delivery.RuleGate, "nothing-goes", delivery.GateNotMet)
	for _, tt := range []struct {
		gates         []delivery.Gate
		kept, summary string
	}{
		{nil, "", "all 0 gates passed"},
		{[]delivery.Gate{settled, window}, "", "1 of 2 gates passed: window waiting"},
		{[]delivery.Gate{settled, window, rule}, "blocked by the rule nothing-goes",
			"1 of 3 gates passed: blocked by the rule nothing-goes: nothing-goes not-met; window waiting"},
		{[]delivery.Gate{settled, gate(delivery.SoakGate, "soak", delivery.GateNotMet), rule}, "soak not-met",
			"1 of 3 gates passed: soak not-met; blocked by the rule nothing-goes: nothing-goes not-met"},
		{[]delivery.Gate{gate(delivery.BeforeGate, "before", delivery.GateWaiting), rule}, "",
			"0 of 2 gates passed: blocked by the rule nothing-goes: nothing-goes not-met; before waiting"},
		{[]delivery.Gate{settled, gate(delivery.RuleGate, "small", delivery.GatePassed), rule, window},
			"blocked by the rule nothing-goes",
			"2 of 4 gates passed: blocked by the rule nothing-goes: nothing-goes not-met; window waiting"},
	} {
		if got := delivery.BlockedBy(tt.gates); got != tt.kept {
			t.Errorf("%v are kept out by %q, want %q", tt.gates, got, tt.kept)
		}
		if got := delivery.Summary(tt.gates); got != tt.summary {
			t.Errorf("%v: %q, want %q", tt.gates, got, tt.summary)
		}
	}
}

func TestGateReasons(t *testing.T) {
	if gates := delivery.Gates(t.Context(), delivery.Entry{Own: stage()}, fulfilled()); !delivery.AllPassed(gates) ||
		len(gates) != 7 || delivery.Summary(gates) != "all 7 gates passed" {
		t.Fatalf("fulfilled: %+v", gates)
	}
	before := func(change func(e *delivery.Earlier)) func(f *delivery.Facts) {
		return func(f *delivery.Facts) {
			e := f.Earlier["preview"]
			change(&e)
			f.Earlier["preview"] = e
		}
	}
	tests := []struct {
		name   string
		change func(f *delivery.Facts)
		kind   string
		state  delivery.GateState
		why    string
	}{
		{"not there yet", before(func(e *delivery.Earlier) { *e = delivery.Earlier{} }), "before", delivery.GateWaiting,
			"waiting to enter preview"},
		{"in progress", before(func(e *delivery.Earlier) { e.State = delivery.Testing }), "before", delivery.GateWaiting,
			"testing in preview"},
		{"stopped before", before(func(e *delivery.Earlier) { e.State = delivery.Failed }), "before", delivery.GateNotMet,
			"failed in preview"},
		{"rolled-back", before(func(e *delivery.Earlier) { e.State = delivery.RolledBack }), "before",
			delivery.GateNotMet, "rolled-back"},
		{"nobody asked", func(f *delivery.Facts) { f.Requested = "" }, "request", delivery.GateWaiting, "delivery request"},
		{"cases did not run", before(func(e *delivery.Earlier) { e.Cases, e.State = nil, delivery.Testing }), "cases",
			delivery.GateWaiting, "waiting for the cases"},
		{"a case failed", before(func(e *delivery.Earlier) { e.Cases[0].Passed = false }), "cases", delivery.GateNotMet,
			"1 of 2 cases failed in preview: a mild night"},
		{"no cases at all", before(func(e *delivery.Earlier) { e.Cases = nil }), "cases", delivery.GateNotMet,
			"no case ran in preview"},
		{"too short", before(func(e *delivery.Earlier) { e.Since = e.Since.Add(50 * time.Minute) }), "soak",
			delivery.GateWaiting, "waiting for 20m (30m"},
		{"too few calls", before(func(e *delivery.Earlier) { e.Metrics = delivery.Metrics{Invocations: 150} }), "soak",
			delivery.GateWaiting, "150 of 200"},
		{"too many errors", before(func(e *delivery.Earlier) { e.Metrics = delivery.Metrics{Invocations: 400, Errors: 20} }),
			"soak", delivery.GateNotMet, "5% of 400 invocations failed"},
		{"errors among too few calls",
			before(func(e *delivery.Earlier) { e.Metrics = delivery.Metrics{Invocations: 199, Errors: 199} }), "soak",
			delivery.GateWaiting, "199 of 200"},
		{"one approval", func(f *delivery.Facts) { f.Approvals = f.Approvals[:1] }, "approvals", delivery.GateWaiting,
			"waiting for 1 more approval from growers-council; approved by linden; wren pushed this version and cannot approve it"},
		{"no approval", func(f *delivery.Facts) { f.Approvals = nil }, "approvals", delivery.GateWaiting,
			"waiting for 2 approvals from"},
		{"one person twice", func(f *delivery.Facts) { f.Approvals[1] = f.Approvals[0] }, "approvals",
			delivery.GateWaiting, "1 more"},
		{"who pushed it approves", func(f *delivery.Facts) { f.Authors = []string{"linden", "wren"} }, "approvals",
			delivery.GateWaiting, "approved by teasel"},
		{"nobody knows who pushed it", func(f *delivery.Facts) { f.Authors, f.Unknown = nil, "the log is gone" },
			"approvals", delivery.GateNotMet, "the log is gone"},
		{"of another group", func(f *delivery.Facts) { f.Approvals[0].Groups = []string{"others"} }, "approvals",
			delivery.GateWaiting, "1 more"},
		{"it means something else now", func(f *delivery.Facts) { f.Impact = []string{`{"kind":"delete","subject":"route/warn/ask"}`} },
			"approvals", delivery.GateWaiting,
			"the impact changed after linden and teasel approved: added: delete route/warn/ask; removed: create route/warn/ask"},
		{"one saw something else", func(f *delivery.Facts) { f.Approvals[0].Shown = nil }, "approvals",
			delivery.GateWaiting, "1 more"},
		{"no plan", func(f *delivery.Facts) { f.Impact, f.Unplanned = nil, "it is unreachable" }, "approvals",
			delivery.GateWaiting, "waiting for a plan to compare with the approved one: it is unreachable"},
		{"at night", func(f *delivery.Facts) { f.Now = f.Now.Add(12 * time.Hour) }, "window", delivery.GateWaiting,
			"opens 2026-11-24 08:00 CET"},
		{"something is deleted", func(f *delivery.Facts) { f.Rules.Plan.Deletes = []string{"logs/warn"} }, "rule",
			delivery.GateNotMet, "not met: plan.deletes.size() == 0; plan.deletes is [\"logs/warn\"]"},
		{"no plan yet", func(f *delivery.Facts) { f.Rules = nil }, "rule", delivery.GateWaiting, "plan"},
	}
	for _, tt := range tests {
		f := fulfilled()
		tt.change(&f)
		gates := delivery.Gates(t.Context(), delivery.Entry{Own: stage()}, f)
		if delivery.AllPassed(gates) {
			t.Errorf("%s: all hold", tt.name)
		}
		for _, g := range gates {
			if g.Kind == tt.kind && (g.State != tt.state || !strings.Contains(g.Reason, tt.why)) {
				t.Errorf("%s: %s, %q; want %s, %q", tt.name, g.State, g.Reason, tt.state, tt.why)
			}
		}
	}
}

func TestStageOnPushIsLimitedToItsBranch(t *testing.T) {
	trial := &manifest.Stage{Name: "trial", When: manifest.OnPush, Branch: "main"}
	gates := delivery.Gates(t.Context(), delivery.Entry{Own: trial}, delivery.Facts{Branch: "main"})
	if len(gates) != 1 || !delivery.AllPassed(gates) {
		t.Errorf("%+v", gates)
	}
	if gates := delivery.Gates(t.Context(), delivery.Entry{Own: trial},
		delivery.Facts{Branch: "other"}); delivery.AllPassed(gates) {
		t.Errorf("from another branch: %+v", gates)
	}
}
