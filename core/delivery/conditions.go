// Each function here evaluates one gate of a stage.

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
	"rudmar/core/plan"
	"rudmar/core/timing"
)

func branch(wanted, built string) Gate {
	g := Gate{Kind: BranchGate, Name: "branch", State: GatePassed, Reason: "built from " + built}
	if built != wanted {
		g.State, g.Reason = GateNotMet, fmt.Sprintf("built from %s; this stage deploys from %s", built, wanted)
	}
	return g
}

func request(f Facts) Gate {
	g := Gate{Kind: RequestGate, Name: "request", State: GateWaiting, Reason: "waiting for a delivery request"}
	switch {
	case f.Requested == "":
	case f.Now.Before(f.NotBefore):
		g.Until = f.NotBefore.UnixMilli()
		g.Reason = fmt.Sprintf("requested by %s, not before %s", f.Requested, f.NotBefore.UTC().Format(timing.Written))
	default:
		g.State, g.Reason = GatePassed, "requested by "+f.Requested
	}
	return g
}

func before(stage string, at Earlier) Gate {
	g := Gate{Kind: BeforeGate, Name: "preceding stage", State: GateWaiting}
	switch {
	case at.Removing:
		g.Reason = "waiting until this version has removed " + stage
	case at.State == Settled && at.Part != nil:
		g.Reason = fmt.Sprintf("waiting for all functions in %s, not only %s", stage, strings.Join(at.Part, ", "))
	case at.State == Settled:
		g.State, g.Reason = GatePassed, "settled in "+stage
	case at.State == "":
		g.Reason = "waiting to enter " + stage
	case Over(at.State) || at.State == Failed:
		g.State, g.Reason = GateNotMet, fmt.Sprintf("%s in %s", at.State, stage)
	default:
		g.Reason = fmt.Sprintf("the version is %s in %s", at.State, stage)
	}
	return g
}

// skipped is the gate of a preceding stage that no longer exists.
func skipped(stage string) Gate {
	return Gate{Kind: BeforeGate, Name: "preceding stage " + stage, State: GatePassed,
		Reason: stage + " was removed and is skipped"}
}

func cases(stage *manifest.Stage, at Earlier) Gate {
	g := Gate{Kind: CasesGate, Name: "cases in " + stage.After, State: GateWaiting,
		Reason: "waiting for the cases to run in " + stage.After}
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
		g.State, g.Reason = GateNotMet, fmt.Sprintf("%d of %d cases failed in %s: %s", len(failed), len(failed)+passed, stage.After,
			strings.Join(failed, ", "))
	case passed > 0:
		g.State, g.Reason = GatePassed, fmt.Sprintf("all %d cases passed in %s", passed, stage.After)
		if passed == 1 {
			g.Reason = "1 case passed in " + stage.After
		}
	case at.State == Settled:
		g.State, g.Reason = GateNotMet, "no case ran in "+stage.After
	}
	return g
}

func soak(stage *manifest.Stage, now time.Time, at Earlier) Gate {
	s := stage.Gates.Soak
	g := Gate{Kind: SoakGate, Name: "soak in " + stage.After, State: GateWaiting}
	if at.State != Settled {
		g.Reason = "waiting to settle in " + stage.After
		return g
	}
	share := 0.0
	if at.Invocations > 0 {
		share = float64(at.Errors) / float64(at.Invocations)
	}
	ran := now.Sub(at.Since)
	switch {
	case s.ErrorsUnder > 0 && at.Invocations >= max(1, s.MinInvocations) && share >= s.ErrorsUnder:
		g.State, g.Reason = GateNotMet, fmt.Sprintf("%s of %s failed in %s, %s allowed", language.FormatShare(share),
			language.FormatCount(at.Invocations, "invocation"), stage.After, language.FormatShare(s.ErrorsUnder))
	case s.ErrorsUnder == 0 && len(at.Missed) > 0 && at.Invocations >= max(1, s.MinInvocations):
		g.State, g.Reason = GateNotMet, "in "+stage.After+" "+strings.Join(at.Missed, "; ")
	case ran < s.For:
		g.Reason = fmt.Sprintf("waiting for %s (%s in %s)", language.FormatTime((s.For - ran).Truncate(time.Second)),
			language.FormatTime(s.For), stage.After)
	case at.Invocations < s.MinInvocations:
		g.Reason = fmt.Sprintf("waiting for invocations: %d of %d in %s", at.Invocations, s.MinInvocations, stage.After)
	default:
		g.State, g.Reason = GatePassed,
			fmt.Sprintf("%s and %s in %s", language.FormatTime(ran.Truncate(time.Second)),
				language.FormatCount(at.Invocations, "invocation"), stage.After)
	}
	return g
}

func approvals(a manifest.Approvals, f Facts) Gate {
	g := Gate{Kind: ApprovalsGate, Name: "approval", State: GateWaiting}
	if a.Count > 1 {
		g.Name = fmt.Sprintf("%d approvals", a.Count)
	}
	if f.Unknown != "" && !a.AllowPushers {
		g.State, g.Reason = GateNotMet, "the authors, who cannot approve their own version, are unknown: "+f.Unknown
		return g
	}
	var by, stale, former, unmatched []string
	var moved []string
	for _, p := range f.Approvals {
		switch {
		case !Counts(a, p, f.Authors) || slices.Contains(by, p.Person):
		case !a.AllowPushers && slices.Contains(f.Unmatched, p.Person):
			unmatched = append(unmatched, p.Person)
		case f.Impact != nil && isFormer(p.Shown):
			former = append(former, p.Person)
		case f.Impact != nil && !slices.Equal(p.Shown, f.Impact):
			stale = append(stale, p.Person)
			moved = Moved(p.Shown, f.Impact)
		default:
			by = append(by, p.Person)
		}
	}
	if len(by) >= a.Count && f.Impact != nil {
		g.State, g.Reason = GatePassed, "approved by "+strings.Join(by, " and ")+remoteEvidence(a, f)
		return g
	}
	if len(by) >= a.Count {
		g.Reason = "approved by " + strings.Join(by, " and ") + "; waiting for a plan to compare with the approved one"
		if f.Unplanned != "" {
			g.Reason += ": " + f.Unplanned
		}
		return g
	}
	missing := a.Count - len(by)
	g.Reason = fmt.Sprintf("waiting for %d more approval", missing)
	if missing > 1 {
		g.Reason += "s"
	}
	if len(by) == 0 {
		g.Reason = strings.Replace(g.Reason, " more", "", 1)
	}
	if a.From != "" {
		g.Reason += " from " + a.From
	}
	if len(by) > 0 {
		g.Reason += "; approved by " + strings.Join(by, " and ")
	}
	if !a.AllowPushers && len(f.Authors) > 0 {
		g.Reason += "; " + strings.Join(f.Authors, " and ") + " pushed this version and cannot approve it"
	}
	g.Reason += remoteEvidence(a, f)
	if len(unmatched) > 0 {
		g.Reason += fmt.Sprintf("; the approval of %s does not count: without an email address (rudmar user email) it is unknown whether they wrote its commits",
			strings.Join(unmatched, " and "))
	}
	if len(former) > 0 {
		g.Reason += fmt.Sprintf("; %s approved before Rudmar was upgraded, when an approval covered other data, and must approve again",
			strings.Join(former, " and "))
	}
	if len(stale) > 0 {
		g.Reason += fmt.Sprintf("; the impact changed after %s approved: %s", strings.Join(stale, " and "),
			strings.Join(moved, "; "))
	}
	return g
}

// isFormer reports whether an approval predates plan format 2, in which approvals cover
// facts; before, they covered sentences.
func isFormer(shown []string) bool {
	return slices.ContainsFunc(shown, func(text string) bool { _, ok := plan.ParseFact(text); return !ok })
}

// remoteEvidence says on what the exclusion of authors rests if a mirror brought the commits.
func remoteEvidence(a manifest.Approvals, f Facts) string {
	if f.Remote == "" || a.AllowPushers {
		return ""
	}
	return "; pushed by " + f.Remote + ": who wrote its commits is known from the remote's word alone"
}

// Counts reports whether a person's approval counts: they belong to the group and, if authors cannot approve,
// pushed none of the commits.
func Counts(a manifest.Approvals, p Approval, authors []string) bool {
	return (a.From == "" || slices.Contains(p.Groups, a.From)) && (a.AllowPushers || !slices.Contains(authors, p.Person))
}

// most is the maximum number of reported differences between two plans.
const most = 4

// Moved returns, in sentences, how one plan differs from an earlier one.
func Moved(before, now []string) []string {
	var out []string
	for _, line := range beyond(now, before) {
		out = append(out, "added: "+plan.Sentence(line))
	}
	for _, line := range beyond(before, now) {
		out = append(out, "removed: "+plan.Sentence(line))
	}
	if len(out) > most {
		out = append(out[:most:most], fmt.Sprintf("and %d more", len(out)-most))
	}
	return out
}

// Within reports whether a plan contains nothing that another does not contain: its remainder.
func Within(meaning, agreed []string) bool {
	return len(beyond(meaning, agreed)) == 0
}

// beyond lists the lines of one plan that another does not contain. Either can have many thousands.
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
	g := Gate{Kind: StrictGate, Name: "wildcards", State: GatePassed, Reason: "wildcards are forbidden"}
	if len(f.Wild) > 0 {
		g.State, g.Reason = GateNotMet, "the stage forbids wildcards, and these functions have one (*): "+strings.Join(f.Wild, ", ")
	}
	return g
}

func window(w manifest.Window, f Facts) Gate {
	g := Gate{Kind: WindowGate, Name: "window", State: GateWaiting}
	parsed, err := timing.ParseWindow(w.Days, w.Hours, w.Zone)
	if err != nil {
		g.State, g.Reason = GateNotMet, err.Error()
		return g
	}
	freezes := w.Calendar
	if address := w.FreezesAddress(); address != "" {
		if f.Calendar == nil {
			err = fmt.Errorf("it is never read")
		} else {
			freezes, err = f.Calendar(address, parsed.Zone())
		}
		if err != nil {
			g.Reason = fmt.Sprintf("waiting for the freeze calendar, %s: %v", address, err)
			return g
		}
	}
	at := func(t time.Time) string { return parsed.Local(t).Format(timing.Written) }
	enters := parsed.Enters(f.Now, freezes)
	name, until := freezes.At(f.Now)
	then := "for more than a year"
	if !enters.IsZero() {
		g.Until, then = enters.UnixMilli(), at(enters)
	}
	switch {
	case enters.Equal(f.Now):
		g.State, g.Reason, g.Until = GatePassed, "the window is open", 0
		if name, begins := freezes.Next(f.Now); name != "" {
			g.Reason += fmt.Sprintf("; frozen from %s: %s", at(begins), name)
		}
	case !until.IsZero():
		g.Reason = fmt.Sprintf("frozen until %s: %s", at(until), name)
		if !enters.Equal(until) {
			g.Reason += "; the window opens afterward, " + then
		}
	case enters.IsZero():
		g.Reason = "waiting for the window, which does not open " + then
	default:
		g.Reason = "waiting for the window, which opens " + then
	}
	return g
}

func rule(ctx context.Context, r manifest.GateRule, f Facts) Gate {
	g := Gate{Kind: RuleGate, Name: r.Name, State: GateNotMet}
	if f.Rules == nil {
		g.State, g.Reason = GateWaiting, "waiting for a plan to evaluate"
		if f.Unplanned != "" {
			g.Reason += ": " + f.Unplanned
		}
		return g
	}
	language, err := expression.ForRules()
	if err != nil {
		g.Reason = err.Error()
		return g
	}
	e, err := language.Compile(r.Expression)
	if err != nil {
		g.Reason = err.Error()
		return g
	}
	ok, err := e.Holds(ctx, f.Rules.Variables())
	switch {
	case err != nil:
		g.Reason = err.Error()
	case ok:
		g.State, g.Reason = GatePassed, r.Expression
	default:
		g.Reason = "not met: " + r.Expression
		if found := language.Found(ctx, r.Expression, f.Rules.Variables()); found != "" {
			g.Reason += "; " + found
		}
	}
	return g
}
