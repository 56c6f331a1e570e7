package delivery

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"rudmar/core/expression"
	"rudmar/core/manifest"
	"rudmar/core/timing"
)

// GateState is the state of a gate.
type GateState string

// The states of a gate.
const (
	GatePassed     GateState = "passed"
	GateWaiting    GateState = "waiting"
	GateNotMet     GateState = "not-met"
	GateOverridden GateState = "overridden" // overridden by a person, with a reason; the version can enter
)

// The kinds of gates.
const (
	BranchGate    = "branch" // the branch that a push must be on
	BeforeGate    = "before" // the stage before
	RequestGate   = "request"
	CasesGate     = "cases"
	SoakGate      = "soak"
	ApprovalsGate = "approvals"
	WindowGate    = "window"
	RuleGate      = "rule"
	StrictGate    = "strict"
)

// Gate is one gate with its state and its reason, in one sentence.
type Gate struct {
	Kind   string    `json:"kind"`
	Name   string    `json:"name"`
	State  GateState `json:"state"`
	Reason string    `json:"reason"`
	// Standing means that only the standing rules of the stage require it, not the version's own.
	Standing bool `json:"standing,omitempty"`
	// Since is when it reached this state, in Unix milliseconds; 0 if unknown.
	Since int64 `json:"since,omitempty"`
	// Until is when it passes by time alone, in Unix milliseconds; 0 if it does not or if that is unknown.
	Until int64 `json:"until,omitempty"`
}

// Approval is one person's approval.
type Approval struct {
	Person  string
	Groups  []string
	Comment string
	Shown   []string // the plan and impact as shown
}

// CaseResult is the outcome of a case in an earlier stage.
type CaseResult struct {
	Function, Name string
	Passed         bool
}

// Figures are the metrics of the version in an earlier stage.
type Metrics struct {
	Invocations, Errors int
	// Missed names, one sentence each, the functions that miss their objectives there.
	Missed []string
}

// Earlier is how the version did in an earlier stage.
type Earlier struct {
	State State
	Since time.Time // since it reached that state
	// Removing reports that the version removes that stage, and has not done so yet.
	Removing bool
	Cases    []CaseResult
	// Part lists its deployed functions; nil if all are deployed.
	Part []string
	Metrics
}

// Facts are the inputs of gates.
type Facts struct {
	Now time.Time
	// Branch is the branch that the version was built from.
	Branch string
	// Authors are the people who pushed, as signed in, a commit that is in the version and not in the deployed
	// one.
	Authors []string
	// Remote is the mirror that brought some of the commits: then their authors are those that its remote reports.
	// Unmatched are approvers of whom it is not known whether they wrote them.
	Remote    string
	Unmatched []string
	// Unknown is why the authors are unknown; "" if they are known.
	Unknown   string
	Requested string // who requested it; "" for nobody
	// NotBefore is the earliest time of entry, as requested; zero for at once.
	NotBefore time.Time
	// Calendar returns the calendar of an address, as it was read last, with its days in a zone.
	Calendar func(address string, zone *time.Location) (timing.Calendar, error)
	// Earlier reports, by stage, the version's state there; Gone names stages that no longer exist.
	Earlier map[string]Earlier
	Gone    map[string]bool
	// Approvals are all that were given, by anybody.
	Approvals []Approval
	// Wild names functions of the version with wildcard permissions (*) in the stage.
	Wild []string
	// Meaning is the plan and impact of entry, as in Approval.Shown; nil if there is no plan, for the reason in
	// Unplanned.
	Impact    []string
	Unplanned string
	// Rules are the variables of rules; nil with Meaning.
	Rules *expression.Rules
}

func (f Facts) gone(stage string) bool { return f.Gone[stage] }

// requirement is one gate that a stage's rules require, with its evaluation.
type requirement struct {
	of    any
	judge func() Gate
}

// Gates returns every gate of an entry with its state, in a fixed order: those of the standing rules and of the
// version's own. A gate in both is listed once. Rules are evaluated until the context's deadline.
func Gates(ctx context.Context, e Entry, f Facts) []Gate {
	var out []Gate
	var asked []any
	own := e.Own != nil
	for _, stage := range e.rules(f.gone) {
		standing := stage != e.Own
		for _, w := range wishes(ctx, e, stage, f) {
			if slices.ContainsFunc(asked, func(other any) bool { return same(other, w.of) }) {
				continue
			}
			asked = append(asked, w.of)
			g := w.judge()
			g.Standing = standing && own && !asksFor(ctx, e, f, w.of)
			out = append(out, g)
		}
	}
	if s := e.Standing; s != nil && s.After != "" && f.gone(s.After) {
		out = append(out, skipped(s.After))
	}
	if e.Removes() && !slices.ContainsFunc(out, func(g Gate) bool { return g.Kind == RequestGate }) {
		out = append(out, request(f))
	}
	rank := []string{BranchGate, BeforeGate, RequestGate, CasesGate, SoakGate, ApprovalsGate,
		WindowGate, RuleGate, StrictGate}
	slices.SortStableFunc(out, func(a, b Gate) int { return slices.Index(rank, a.Kind) - slices.Index(rank, b.Kind) })
	return out
}

// asksFor reports whether the version's own rules require a gate too.
func asksFor(ctx context.Context, e Entry, f Facts, of any) bool {
	return slices.ContainsFunc(wishes(ctx, e, e.Own, f), func(w requirement) bool { return same(w.of, of) })
}

// wishes lists the gates that a stage's rules require.
func wishes(ctx context.Context, e Entry, stage *manifest.Stage, f Facts) []requirement {
	type after[T any] struct {
		Kind, Stage string
		Of          T
	}
	var out []requirement
	add := func(of any, judge func() Gate) { out = append(out, requirement{of, judge}) }
	// The standing rules alone decide which branch a stage deploys from: a version that changes the branch is
	// delivered from the present one.
	if stage.When == manifest.OnPush && (stage != e.Own || e.Standing == nil) && !e.Removes() {
		add(after[string]{BranchGate, stage.Branch, ""}, func() Gate { return branch(stage.Branch, f.Branch) })
	}
	if stage.After != "" {
		add(after[string]{BeforeGate, stage.After, ""}, func() Gate { return before(stage.After, f.Earlier[stage.After]) })
	}
	if stage.When == manifest.OnRequest {
		add(after[string]{RequestGate, "", ""}, func() Gate { return request(f) })
	}
	g := stage.Gates
	if len(g.Cases) > 0 && stage.After != "" && !e.Removes() {
		add(after[[]string]{CasesGate, stage.After, g.Cases}, func() Gate { return cases(stage, f.Earlier[stage.After]) })
	}
	if g.Soak != nil && stage.After != "" && !e.Removes() {
		add(after[manifest.Soak]{SoakGate, stage.After, *g.Soak},
			func() Gate { return soak(stage, f.Now, f.Earlier[stage.After]) })
	}
	if g.Approvals != nil {
		add(*g.Approvals, func() Gate { return approvals(*g.Approvals, f) })
	}
	if g.Window != nil {
		add(*g.Window, func() Gate { return window(*g.Window, f) })
	}
	for _, r := range g.Rules {
		add(r, func() Gate { return rule(ctx, r, f) })
	}
	if stage != e.Own && stage.ForbidWildcards && e.Own != nil && !e.Own.ForbidWildcards {
		add(after[string]{StrictGate, "", ""}, func() Gate { return strict(f) })
	}
	return out
}

// Passed reports whether the version can enter past the gate.
func (g Gate) Passed() bool { return g.State == GatePassed || g.State == GateOverridden }

// AllPassed reports whether a version can enter.
func AllPassed(gates []Gate) bool {
	return !slices.ContainsFunc(gates, func(g Gate) bool { return !g.Passed() })
}

// BlockedBy returns what blocks a version other than time: the first gate that is not met; "" if there is none,
// or if the version has not reached the stage.
func BlockedBy(gates []Gate) string {
	for _, g := range gates {
		switch {
		case g.Kind == BeforeGate && !g.Passed():
			return ""
		case g.State != GateNotMet:
		case g.Kind == RuleGate:
			return refusedBy(g)
		default:
			return g.Reason
		}
	}
	return ""
}

func refusedBy(rule Gate) string { return "blocked by the rule " + rule.Name }

// Open returns what each open gate is waiting for: first those that are not met, as waiting does not resolve
// them.
func Open(gates []Gate) []string {
	failing, waiting := []string{}, []string{}
	for _, g := range gates {
		switch {
		case g.Passed():
		case g.State == GateNotMet && g.Kind == RuleGate:
			failing = append(failing, refusedBy(g)+": "+g.Reason)
		case g.State == GateNotMet:
			failing = append(failing, g.Reason)
		default:
			waiting = append(waiting, g.Reason)
		}
	}
	return append(failing, waiting...)
}

// Summary summarizes the states of the gates.
func Summary(gates []Gate) string {
	open := Open(gates)
	if len(open) == 0 {
		return fmt.Sprintf("all %d gates passed", len(gates))
	}
	return fmt.Sprintf("%d of %d gates passed: %s", len(gates)-len(open), len(gates), strings.Join(open, "; "))
}
