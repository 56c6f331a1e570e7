package delivery

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"rudmar/core/expression"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/timing"
)

// GateState is the state of a gate.
type GateState string

// The states of a gate.
const (
	Holds GateState = "holds"
	Waits GateState = "waits"
	Fails GateState = "fails"
)

// The kinds of gates.
const (
	BeforeGate    = "before" // the stage before
	RequestGate   = "request"
	CasesGate     = "cases"
	SoakGate      = "soak"
	ApprovalsGate = "approvals"
	WindowGate    = "window"
	RuleGate      = "rule"
)

// Gate is one gate with its state and, in a sentence, why.
type Gate struct {
	Kind  string    `json:"kind"`
	Name  string    `json:"name"`
	State GateState `json:"state"`
	Why   string    `json:"why"`
}

// Approval is one person's yes.
type Approval struct {
	Person  string
	Groups  []string
	Comment string
}

// CaseTally sums up the cases that ran in the stage before.
type CaseTally struct {
	Ran    bool
	Passed int
	Failed []string
}

// Figures is what was measured of the version in the stage before.
type Figures struct {
	Calls, Errors int
}

// Facts is what gates are judged by.
type Facts struct {
	Now       time.Time
	Author    string
	Requested string // who asked for it; "" for nobody
	// Before is the version's state in the stage before, and since when.
	Before      State
	BeforeSince time.Time
	Cases       CaseTally
	Figures     Figures
	Approvals   []Approval
	// Variables are what rules are evaluated over.
	Variables map[string]any
}

// Gates gives every gate of a stage with its state, in a fixed order. Rules are
// evaluated until the context's deadline.
func Gates(ctx context.Context, stage *manifest.Stage, f Facts) []Gate {
	var out []Gate
	if stage.After != "" {
		out = append(out, before(stage.After, f))
	}
	if stage.On == manifest.OnRequest {
		g := Gate{Kind: RequestGate, Name: "request", State: Waits, Why: "waits for somebody to ask for it"}
		if f.Requested != "" {
			g.State, g.Why = Holds, "asked for by "+f.Requested
		}
		out = append(out, g)
	}
	if len(stage.Gates.Cases) > 0 {
		out = append(out, cases(stage, f))
	}
	if stage.Gates.Soak != nil {
		out = append(out, soak(stage, f))
	}
	if stage.Gates.Approvals != nil {
		out = append(out, approvals(*stage.Gates.Approvals, f))
	}
	if stage.Gates.Window != nil {
		out = append(out, window(*stage.Gates.Window, f.Now))
	}
	for _, r := range stage.Gates.Rules {
		out = append(out, rule(ctx, r, f.Variables))
	}
	return out
}

// AllHold tells whether a version may enter.
func AllHold(gates []Gate) bool {
	return !slices.ContainsFunc(gates, func(g Gate) bool { return g.State != Holds })
}

// Summary says in a few words how the gates stand.
func Summary(gates []Gate) string {
	holding := 0
	var open []string
	for _, g := range gates {
		if g.State == Holds {
			holding++
		} else {
			open = append(open, g.Why)
		}
	}
	if len(open) == 0 {
		return fmt.Sprintf("all %d hold", len(gates))
	}
	return fmt.Sprintf("%d of %d hold: %s", holding, len(gates), strings.Join(open, "; "))
}

func before(stage string, f Facts) Gate {
	g := Gate{Kind: BeforeGate, Name: "the stage before", State: Waits}
	switch {
	case f.Before == Settled:
		g.State, g.Why = Holds, "settled in "+stage
	case f.Before == "":
		g.Why = "waits until it is in " + stage
	case Over(f.Before) || f.Before == Stopped:
		g.State, g.Why = Fails, fmt.Sprintf("it is %s in %s", f.Before, stage)
	default:
		g.Why = fmt.Sprintf("waits: it is %s in %s", f.Before, stage)
	}
	return g
}

func cases(stage *manifest.Stage, f Facts) Gate {
	g := Gate{Kind: CasesGate, Name: "cases pass in " + stage.After, State: Waits, Why: "waits for the cases to run in " + stage.After}
	switch {
	case !f.Cases.Ran:
	case len(f.Cases.Failed) > 0:
		g.State, g.Why = Fails, fmt.Sprintf("%d of %d cases failed in %s: %s", len(f.Cases.Failed), len(f.Cases.Failed)+f.Cases.Passed, stage.After, strings.Join(f.Cases.Failed, ", "))
	case f.Cases.Passed == 0:
		g.State, g.Why = Fails, "no case ran; the service has none"
	default:
		g.State, g.Why = Holds, fmt.Sprintf("all %d cases passed in %s", f.Cases.Passed, stage.After)
	}
	return g
}

func soak(stage *manifest.Stage, f Facts) Gate {
	s := stage.Gates.Soak
	g := Gate{Kind: SoakGate, Name: "soak in " + stage.After, State: Waits}
	if f.Before != Settled {
		g.Why = "waits until it is settled in " + stage.After
		return g
	}
	share := 0.0
	if f.Figures.Calls > 0 {
		share = float64(f.Figures.Errors) / float64(f.Figures.Calls)
	}
	ran := f.Now.Sub(f.BeforeSince)
	switch {
	case s.ErrorsUnder > 0 && f.Figures.Calls >= max(1, s.Calls) && share >= s.ErrorsUnder:
		g.State, g.Why = Fails, fmt.Sprintf("%.2g%% of %d calls failed in %s; under %.2g%% is allowed", share*100, f.Figures.Calls, stage.After, s.ErrorsUnder*100)
	case ran < s.For:
		g.Why = fmt.Sprintf("waits %s more (%s in %s)", language.FormatTime((s.For - ran).Truncate(time.Second)), language.FormatTime(s.For), stage.After)
	case f.Figures.Calls < s.Calls:
		g.Why = fmt.Sprintf("waits for calls: %d of %d in %s", f.Figures.Calls, s.Calls, stage.After)
	default:
		g.State, g.Why = Holds, fmt.Sprintf("%s and %d calls in %s", language.FormatTime(ran.Truncate(time.Second)), f.Figures.Calls, stage.After)
	}
	return g
}

func approvals(a manifest.Approvals, f Facts) Gate {
	g := Gate{Kind: ApprovalsGate, Name: "approval", State: Waits}
	if a.Count > 1 {
		g.Name = fmt.Sprintf("%d approvals", a.Count)
	}
	var by []string
	for _, p := range f.Approvals {
		if Counts(a, p, f.Author) && !slices.Contains(by, p.Person) {
			by = append(by, p.Person)
		}
	}
	if len(by) >= a.Count {
		g.State, g.Why = Holds, "approved by "+strings.Join(by, " and ")
		return g
	}
	missing := a.Count - len(by)
	g.Why = fmt.Sprintf("waits for %d more approval", missing)
	if missing > 1 {
		g.Why += "s"
	}
	if len(by) == 0 {
		g.Why = strings.Replace(g.Why, " more", "", 1)
	}
	if a.From != "" {
		g.Why += " from " + a.From
	}
	if !a.AuthorMay && f.Author != "" {
		g.Why += ", not by its author " + f.Author
	}
	if len(by) > 0 {
		g.Why += "; has " + strings.Join(by, " and ")
	}
	return g
}

// Counts tells whether a person's approval counts.
func Counts(a manifest.Approvals, p Approval, author string) bool {
	return (a.From == "" || slices.Contains(p.Groups, a.From)) && (a.AuthorMay || p.Person != author)
}

func window(w manifest.Window, now time.Time) Gate {
	g := Gate{Kind: WindowGate, Name: "window", State: Waits}
	parsed, err := timing.ParseWindow(w.Days, w.Hours, w.Zone)
	switch {
	case err != nil:
		g.State, g.Why = Fails, err.Error()
	case parsed.Holds(now):
		g.State, g.Why = Holds, "the window is open"
	default:
		g.Why = "waits for the window, which opens " + parsed.Opens(now).Format("2006-01-02 15:04 MST")
	}
	return g
}

func rule(ctx context.Context, r manifest.GateRule, variables map[string]any) Gate {
	g := Gate{Kind: RuleGate, Name: r.Name, State: Fails}
	if variables == nil {
		g.State, g.Why = Waits, "waits for a plan to be judged by"
		return g
	}
	language, err := expression.ForRules()
	if err != nil {
		g.Why = err.Error()
		return g
	}
	e, err := language.Compile(r.Expression)
	if err != nil {
		g.Why = err.Error()
		return g
	}
	ok, err := e.Holds(ctx, variables)
	switch {
	case err != nil:
		g.Why = err.Error()
	case ok:
		g.State, g.Why = Holds, r.Expression
	default:
		g.Why = "not true: " + r.Expression
	}
	return g
}
