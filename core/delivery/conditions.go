// Each function here judges one condition of a stage.

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

func branch(wanted, built string) Gate {
	g := Gate{Kind: BranchGate, Name: "branch", State: Holds, Why: "built from " + built}
	if built != wanted {
		g.State, g.Why = Fails, fmt.Sprintf("built from %s; this stage takes %s", built, wanted)
	}
	return g
}

func request(f Facts) Gate {
	g := Gate{Kind: RequestGate, Name: "request", State: Waits, Why: "waits for somebody to ask for it"}
	switch {
	case f.Requested == "":
	case f.Now.Before(f.NotBefore):
		g.Until = f.NotBefore.UnixMilli()
		g.Why = fmt.Sprintf("asked for by %s, from %s on", f.Requested, f.NotBefore.UTC().Format(timing.Written))
	default:
		g.State, g.Why = Holds, "asked for by "+f.Requested
	}
	return g
}

func before(stage string, at Earlier) Gate {
	g := Gate{Kind: BeforeGate, Name: "the stage before", State: Waits}
	switch {
	case at.State == Settled && at.Part != nil:
		g.Why = fmt.Sprintf("waits until all of it is in %s, not only %s", stage, strings.Join(at.Part, ", "))
	case at.State == Settled:
		g.State, g.Why = Holds, "settled in "+stage
	case at.State == "":
		g.Why = "waits until it is in " + stage
	case Over(at.State) || at.State == Stopped:
		g.State, g.Why = Fails, fmt.Sprintf("it is %s in %s", at.State, stage)
	default:
		g.Why = fmt.Sprintf("waits: it is %s in %s", at.State, stage)
	}
	return g
}

func cases(stage *manifest.Stage, at Earlier) Gate {
	g := Gate{Kind: CasesGate, Name: "cases pass in " + stage.After, State: Waits,
		Why: "waits for the cases to run in " + stage.After}
	passed, failed := 0, []string{}
	for _, c := range at.Cases {
		switch {
		case !slices.Contains(stage.Gates.Cases, "all") && !slices.Contains(stage.Gates.Cases, c.Function):
		case c.Passed:
			passed++
		default:
			failed = append(failed, c.Name)
		}
	}
	switch {
	case len(failed) > 0:
		g.State, g.Why = Fails, fmt.Sprintf("%d of %d cases failed in %s: %s", len(failed), len(failed)+passed, stage.After,
			strings.Join(failed, ", "))
	case passed > 0:
		g.State, g.Why = Holds, fmt.Sprintf("all %d cases passed in %s", passed, stage.After)
		if passed == 1 {
			g.Why = "its case passed in " + stage.After
		}
	case at.State == Settled:
		g.State, g.Why = Fails, "no case ran in "+stage.After
	}
	return g
}

func soak(stage *manifest.Stage, now time.Time, at Earlier) Gate {
	s := stage.Gates.Soak
	g := Gate{Kind: SoakGate, Name: "soak in " + stage.After, State: Waits}
	if at.State != Settled {
		g.Why = "waits until it is settled in " + stage.After
		return g
	}
	share := 0.0
	if at.Calls > 0 {
		share = float64(at.Errors) / float64(at.Calls)
	}
	ran := now.Sub(at.Since)
	switch {
	case s.ErrorsUnder > 0 && at.Calls >= max(1, s.Calls) && share >= s.ErrorsUnder:
		g.State, g.Why = Fails, fmt.Sprintf("%.3g%% of %s failed in %s; under %.3g%% is allowed", share*100,
			language.FormatCount(at.Calls, "call"), stage.After, s.ErrorsUnder*100)
	case s.ErrorsUnder == 0 && len(at.Missed) > 0 && at.Calls >= max(1, s.Calls):
		g.State, g.Why = Fails, "in "+stage.After+" "+strings.Join(at.Missed, "; ")
	case ran < s.For:
		g.Why = fmt.Sprintf("waits %s more (%s in %s)", language.FormatTime((s.For - ran).Truncate(time.Second)),
			language.FormatTime(s.For), stage.After)
	case at.Calls < s.Calls:
		g.Why = fmt.Sprintf("waits for calls: %d of %d in %s", at.Calls, s.Calls, stage.After)
	default:
		g.State, g.Why = Holds,
			fmt.Sprintf("%s and %s in %s", language.FormatTime(ran.Truncate(time.Second)),
				language.FormatCount(at.Calls, "call"), stage.After)
	}
	return g
}

func approvals(a manifest.Approvals, f Facts) Gate {
	g := Gate{Kind: ApprovalsGate, Name: "approval", State: Waits}
	if a.Count > 1 {
		g.Name = fmt.Sprintf("%d approvals", a.Count)
	}
	if f.Unknown != "" && !a.AuthorMay {
		g.State, g.Why = Fails, "it is not known who its authors are, who may not approve it: "+f.Unknown
		return g
	}
	var by, stale []string
	var moved []string
	for _, p := range f.Approvals {
		switch {
		case !Counts(a, p, f.Authors) || slices.Contains(by, p.Person):
		case f.Meaning != nil && !slices.Equal(p.Shown, f.Meaning):
			stale = append(stale, p.Person)
			moved = Moved(p.Shown, f.Meaning)
		default:
			by = append(by, p.Person)
		}
	}
	if len(by) >= a.Count && f.Meaning != nil {
		g.State, g.Why = Holds, "approved by "+strings.Join(by, " and ")
		return g
	}
	if len(by) >= a.Count {
		g.Why = "approved by " + strings.Join(by, " and ") + "; waits for a plan, to see that it means what they saw"
		if f.Unplanned != "" {
			g.Why += ": " + f.Unplanned
		}
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
	if !a.AuthorMay && len(f.Authors) > 0 {
		g.Why += ", not by who pushed it: " + strings.Join(f.Authors, ", ")
	}
	if len(by) > 0 {
		g.Why += "; has " + strings.Join(by, " and ")
	}
	if len(stale) > 0 {
		g.Why += fmt.Sprintf("; what %s approved means something else now: %s", strings.Join(stale, " and "),
			strings.Join(moved, "; "))
	}
	return g
}

// Counts tells whether a person's approval counts: they belong to the group and,
// where authors may not, pushed none of the commits.
func Counts(a manifest.Approvals, p Approval, authors []string) bool {
	return (a.From == "" || slices.Contains(p.Groups, a.From)) && (a.AuthorMay || !slices.Contains(authors, p.Person))
}

// most is how many differences between two meanings are told.
const most = 4

// Moved tells, in sentences, in what one meaning is another than before.
func Moved(before, now []string) []string {
	var out []string
	for _, line := range beyond(now, before) {
		out = append(out, "newly "+line)
	}
	for _, line := range beyond(before, now) {
		out = append(out, "no longer "+line)
	}
	if len(out) > most {
		out = append(out[:most:most], fmt.Sprintf("and %d more", len(out)-most))
	}
	return out
}

// Within tells whether a meaning holds nothing that another does not: what is
// left to do of it, and no more.
func Within(meaning, agreed []string) bool {
	return len(beyond(meaning, agreed)) == 0
}

// beyond lists the lines of one meaning that another does not hold. Either may
// have many thousand.
func beyond(lines, others []string) []string {
	held := make(map[string]bool, len(others))
	for _, line := range others {
		held[line] = true
	}
	var out []string
	for _, line := range lines {
		if !held[line] {
			out = append(out, line)
		}
	}
	return out
}

func strict(f Facts) Gate {
	g := Gate{Kind: StrictGate, Name: "strict", State: Holds, Why: "nobody may do everything"}
	if len(f.Wild) > 0 {
		g.State, g.Why = Fails, "the stage is strict, and these may do everything (*): "+strings.Join(f.Wild, ", ")
	}
	return g
}

func window(w manifest.Window, f Facts) Gate {
	g := Gate{Kind: WindowGate, Name: "window", State: Waits}
	parsed, err := timing.ParseWindow(w.Days, w.Hours, w.Zone)
	if err != nil {
		g.State, g.Why = Fails, err.Error()
		return g
	}
	freezes := w.Calendar
	if address := w.FreezesAddress(); address != "" {
		if f.Calendar == nil {
			err = fmt.Errorf("nobody reads it")
		} else {
			freezes, err = f.Calendar(address)
		}
		if err != nil {
			g.Why = fmt.Sprintf("waits for its calendar of freezes, %s: %v", address, err)
			return g
		}
	}
	at := func(t time.Time) string { return parsed.Local(t).Format(timing.Written) }
	enters := parsed.Enters(f.Now, freezes)
	name, until := freezes.At(f.Now)
	then := "for a year and more"
	if !enters.IsZero() {
		g.Until, then = enters.UnixMilli(), at(enters)
	}
	switch {
	case enters.Equal(f.Now):
		g.State, g.Why, g.Until = Holds, "the window is open", 0
		if name, begins := freezes.Next(f.Now); name != "" {
			g.Why += fmt.Sprintf("; frozen from %s: %s", at(begins), name)
		}
	case !until.IsZero():
		g.Why = fmt.Sprintf("frozen until %s: %s", at(until), name)
		if !enters.Equal(until) {
			g.Why += "; the window opens after that " + then
		}
	case enters.IsZero():
		g.Why = "waits for the window, which does not open " + then
	default:
		g.Why = "waits for the window, which opens " + then
	}
	return g
}

func rule(ctx context.Context, r manifest.GateRule, f Facts) Gate {
	g := Gate{Kind: RuleGate, Name: r.Name, State: Fails}
	if f.Rules == nil {
		g.State, g.Why = Waits, "waits for a plan to be judged by"
		if f.Unplanned != "" {
			g.Why += ": " + f.Unplanned
		}
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
	ok, err := e.Holds(ctx, f.Rules.Variables())
	switch {
	case err != nil:
		g.Why = err.Error()
	case ok:
		g.State, g.Why = Holds, r.Expression
	default:
		g.Why = "not true: " + r.Expression
		if found := language.Found(ctx, r.Expression, f.Rules.Variables()); found != "" {
			g.Why += "; " + found
		}
	}
	return g
}
