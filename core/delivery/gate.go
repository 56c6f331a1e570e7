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
	GateOverridden GateState = "overridden" // by a person, with a reason; the version can enter
)

// The kinds of gates.
const (
	BranchGate    = "branch" // that a push has to come by
	BeforeGate    = "before" // the stage before
	RequestGate   = "request"
	CasesGate     = "cases"
	SoakGate      = "soak"
	ApprovalsGate = "approvals"
	WindowGate    = "window"
	RuleGate      = "rule"
	StrictGate    = "strict"
)

// Gate is one gate with its state and, in a sentence, why.
type Gate struct {
	Kind   string    `json:"kind"`
	Name   string    `json:"name"`
	State  GateState `json:"state"`
	Reason string    `json:"reason"`
	// Standing tells that only the rules that stand in the stage ask for it, not
	// the version's own.
	Standing bool `json:"standing,omitempty"`
	// Since is when it came to this state, in Unix milliseconds; 0 where nobody
	// has kept it.
	Since int64 `json:"since,omitempty"`
	// Until is when it comes to hold by time alone, in Unix milliseconds; 0 where it does
	// not, or that is not known.
	Until int64 `json:"until,omitempty"`
}

// Approval is one person's yes.
type Approval struct {
	Person  string
	Groups  []string
	Comment string
	Shown   []string // what entering did and meant when they said it
}

// CaseResult is what came of a case in an earlier stage.
type CaseResult struct {
	Function, Name string
	Passed         bool
}

// Figures is what was measured of the version in an earlier stage.
type Metrics struct {
	Invocations, Errors int
	// Missed tells, a sentence each, which functions do not keep to their objectives there.
	Missed []string
}

// Earlier is how the version did in an earlier stage.
type Earlier struct {
	State State
	Since time.Time // of that state
	Cases []CaseResult
	// Part are the functions of it that are there; nil where all are.
	Part []string
	Metrics
}

// Facts is what gates are judged by.
type Facts struct {
	Now time.Time
	// Branch is the one that the version was built from.
	Branch string
	// Authors are the people who pushed, as signed in, a commit that is in the
	// version and not in what runs in the stage.
	Authors []string
	// Unknown tells why it is not known who they are; "" where it is.
	Unknown   string
	Requested string // who asked for it; "" for nobody
	// NotBefore is from when on it may enter, as whoever asked said; zero for at once.
	NotBefore time.Time
	// Calendar gives the calendar of an address, as it was read last.
	Calendar func(address string) (timing.Calendar, error)
	// Earlier tells, by stage, how the version did there; Gone names stages that
	// are not there any more.
	Earlier map[string]Earlier
	Gone    map[string]bool
	// Approvals are those that were given, whoever gave them.
	Approvals []Approval
	// Wild names functions of the version that ask for everything (*) in the stage.
	Wild []string
	// Meaning is what entering does and means, as Approval.Shown gives it; nil
	// where there is no plan to be judged by, for the reason of Unplanned.
	Impact    []string
	Unplanned string
	// Rules are what rules are evaluated over; nil with Meaning.
	Rules *expression.Rules
}

func (f Facts) gone(stage string) bool { return f.Gone[stage] }

// requirement is one gate that a stage's rules ask for: what it asks for, and how it
// is judged.
type requirement struct {
	of    any
	judge func() Gate
}

// Gates returns every gate that guards an entry with its state, in a fixed order:
// those of the standing rules and of the version's own. What both ask for alike
// is one gate. Rules are evaluated until the context's deadline.
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
	if e.Removes() && !slices.ContainsFunc(out, func(g Gate) bool { return g.Kind == RequestGate }) {
		out = append(out, request(f))
	}
	rank := []string{BranchGate, BeforeGate, RequestGate, CasesGate, SoakGate, ApprovalsGate,
		WindowGate, RuleGate, StrictGate}
	slices.SortStableFunc(out, func(a, b Gate) int { return slices.Index(rank, a.Kind) - slices.Index(rank, b.Kind) })
	return out
}

// asksFor reports whether the version's own rules ask for a gate too.
func asksFor(ctx context.Context, e Entry, f Facts, of any) bool {
	return slices.ContainsFunc(wishes(ctx, e, e.Own, f), func(w requirement) bool { return same(w.of, of) })
}

// wishes lists the gates that a stage's rules ask for.
func wishes(ctx context.Context, e Entry, stage *manifest.Stage, f Facts) []requirement {
	type after[T any] struct {
		Kind, Stage string
		Of          T
	}
	var out []requirement
	add := func(of any, judge func() Gate) { out = append(out, requirement{of, judge}) }
	// Which branch a stage takes is said by the rules that stand there alone: a
	// version that changes it comes by the one that is taken until then.
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

// AllPassed reports whether a version may enter.
func AllPassed(gates []Gate) bool {
	return !slices.ContainsFunc(gates, func(g Gate) bool { return !g.Passed() })
}

// BlockedBy returns what keeps a version out that waiting alone does not end: the first gate
// that fails; "" where none does, or where the version is still on its way to the stage.
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

// Open returns what each gate that does not hold waits for: first those that fail, as that
// does not pass by waiting.
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

// Summary returns in a few words how the gates stand.
func Summary(gates []Gate) string {
	open := Open(gates)
	if len(open) == 0 {
		return fmt.Sprintf("all %d gates passed", len(gates))
	}
	return fmt.Sprintf("%d of %d gates passed: %s", len(gates)-len(open), len(gates), strings.Join(open, "; "))
}
