package delivery

import (
	"reflect"
	"slices"
	"strings"

	"rudmar/core/impact"
	"rudmar/core/language"
	"rudmar/core/manifest"
)

// Entry has the rules that a version must meet to enter a stage: the standing rules, which are those of the
// settled version, and its own.
type Entry struct {
	// Own are the version's rules; nil if it no longer declares the stage, so its entry deletes the stage's
	// resources.
	Own *manifest.Stage
	// Standing are the standing rules of the stage; nil for the first version.
	Standing *manifest.Stage
}

// Removes reports that the version enters the stage by taking it away.
func (e Entry) Removes() bool { return e.Own == nil }

// Rules returns the rules that the version must meet: the standing ones and its own, if any, the standing ones
// first.
func (e Entry) Rules() []*manifest.Stage {
	return slices.DeleteFunc([]*manifest.Stage{e.Standing, e.Own}, func(s *manifest.Stage) bool { return s == nil })
}

// rules returns the rules of the entry, the standing ones first. A removed stage is not waited for: the stage
// after it follows the stage that the version itself names.
func (e Entry) rules(gone func(stage string) bool) []*manifest.Stage {
	if e.Standing != nil && e.Standing.After != "" && gone(e.Standing.After) {
		s := *e.Standing
		s.After = ""
		if e.Own != nil {
			s.After = e.Own.After
		}
		e.Standing = &s
	}
	return e.Rules()
}

// RuleChanges returns how a version would change the standing rules of a stage once it has settled there,
// weaker rules first. There are none for the first version.
func (e Entry) RuleChanges() []impact.RuleChange {
	if e.Standing == nil {
		return nil
	}
	before := e.Standing
	if e.Own == nil {
		return []impact.RuleChange{{Rule: "stage", Before: "declared", After: "removed", Loosens: true}}
	}
	after := e.Own
	var out []impact.RuleChange
	add := func(rule, was, is string, o order) {
		if o == equal && was == is {
			return
		}
		if was == is {
			is += " (changed)"
		}
		out = append(out, impact.RuleChange{Rule: rule, Before: was, After: is, Loosens: o == weaker,
			Differs: o == different})
	}
	add("enter", enterWords(before), enterWords(after), compareEnter(before, after))
	b, a := before.Gates, after.Gates
	add("cases", casesWords(b.Cases), casesWords(a.Cases), compareCases(b.Cases, a.Cases))
	add("soak", soakWords(b.Soak), soakWords(a.Soak), compareSoak(b.Soak, a.Soak))
	add("approvals", approvalsWords(b.Approvals), approvalsWords(a.Approvals), compareApprovals(b.Approvals, a.Approvals))
	add("window", windowWords(b.Window), windowWords(a.Window), compareWindows(b.Window, a.Window))
	for _, name := range ruleNames(b.Rules, a.Rules) {
		was, is := ruleOf(b.Rules, name), ruleOf(a.Rules, name)
		add("rule "+name, was, is, compareRules(was, is))
	}
	add("shift", shiftWords(before.Shift), shiftWords(after.Shift), compareShifts(before.Shift, after.Shift))
	add("targets", targetsWords(before), targetsWords(after), compareTargets(before, after))
	add("wildcards", wildcardsText(before), wildcardsText(after), flag(before.ForbidWildcards, after.ForbidWildcards))
	rank := func(c impact.RuleChange) int {
		switch {
		case c.Loosens:
			return 0
		case c.Differs:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(out, func(a, b impact.RuleChange) int { return rank(a) - rank(b) })
	return out
}

func enterWords(s *manifest.Stage) string {
	switch s.When {
	case manifest.OnPush:
		return "on each push to " + s.Branch
	case manifest.OnReady:
		return "after " + s.After + ", when ready"
	}
	if s.AllowPartial {
		return "after " + s.After + ", on request, also for selected functions"
	}
	return "after " + s.After + ", on request"
}

func casesWords(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	return strings.Join(names, ", ")
}

// coversCases reports whether the cases of one gate include those of another.
func coversCases(a, b []string) bool {
	return slices.Contains(a, "all") ||
		!slices.ContainsFunc(b, func(name string) bool { return !slices.Contains(a, name) })
}

func soakWords(s *manifest.Soak) string {
	if s == nil {
		return "none"
	}
	words := []string{language.FormatTime(s.For)}
	if s.MinInvocations > 0 {
		words = append(words, language.FormatCount(s.MinInvocations, "invocation"))
	}
	if s.ErrorsUnder > 0 {
		words = append(words, "errors under "+language.FormatShare(s.ErrorsUnder))
	}
	return strings.Join(words, ", ")
}

func approvalsWords(a *manifest.Approvals) string {
	if a == nil {
		return "none"
	}
	words := language.FormatCount(a.Count, "approval")
	if a.From != "" {
		words += " from " + a.From
	}
	if a.AllowPushers {
		words += ", authors allowed"
	}
	return words
}

func windowWords(w *manifest.Window) string {
	if w == nil {
		return "none"
	}
	words := strings.Join(strings.Fields(w.Days+" "+w.Hours+" "+w.Zone), " ")
	if w.Freezes != "" {
		words += ", freezes from " + w.Freezes
		if n := w.Calendar.Len(); n > 0 {
			words += " (" + language.FormatCount(n, "event") + ")"
		}
	}
	return words
}

func ruleNames(lists ...[]manifest.GateRule) []string {
	var names []string
	for _, list := range lists {
		for _, r := range list {
			names = append(names, r.Name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

func ruleOf(rules []manifest.GateRule, name string) string {
	for _, r := range rules {
		if r.Name == name {
			return r.Expression
		}
	}
	return "none"
}

func shiftWords(s *manifest.Shift) string {
	if s == nil {
		return "none"
	}
	var words []string
	for _, step := range s.Steps {
		words = append(words, language.FormatShare(step))
	}
	words = append(words, "every "+language.FormatTime(s.Every))
	if s.MinInvocations != manifest.ShiftMinInvocations {
		words = append(words, language.FormatCount(s.MinInvocations, "invocation"))
	}
	if s.AtMost != manifest.ShiftAtMost {
		words = append(words, "at most "+language.FormatTime(s.AtMost))
	}
	return strings.Join(words, ", ")
}

func wildcardsText(s *manifest.Stage) string {
	if s.ForbidWildcards {
		return "forbidden"
	}
	return "allowed"
}

func targetsWords(s *manifest.Stage) string {
	var words []string
	for _, t := range s.Targets {
		words = append(words, t.String())
	}
	if s.Parallel() {
		words = append(words, "in parallel")
	}
	if s.TestEach() {
		words = append(words, "each tested before the next")
	}
	return strings.Join(words, ", ")
}

// same reports whether two gates require the same.
func same(a, b any) bool { return reflect.DeepEqual(a, b) }
