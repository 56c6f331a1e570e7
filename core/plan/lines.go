package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"rudmar/core/impact"
	"rudmar/core/language"
	"rudmar/core/resource"
	"rudmar/core/tree"
)

// Severity is how much a line of a plan matters for the decision to deploy.
type Severity string

// The severities, most severe first.
const (
	Critical Severity = "critical" // weaker protection, data loss or failures
	Review   Severity = "review"   // needs a review
	Info     Severity = "info"     // for information
)

// ImpactLine is one impact of a plan, in words.
type ImpactLine struct {
	Kind     string       `json:"kind"` // a kind of impact
	Severity Severity     `json:"severity"`
	Text     string       `json:"text"`
	How      string       `json:"how,omitempty"` // the figures behind it, or the arithmetic
	From     *tree.Origin `json:"from,omitempty"`
}

// Summary summarizes a plan in one sentence.
func (p *Plan) Summary() string {
	where := p.Base.Stage
	if t := p.Base.Target.String(); t != "" {
		where += " on " + t
	}
	subject := fmt.Sprintf("Version %d", p.Base.Version)
	if p.Draft {
		subject = "This edit"
	}
	if p.Empty() {
		if p.Base.Version == p.Base.From && !p.Draft {
			return fmt.Sprintf("%s already matches version %d.", where, p.Base.Version)
		}
		return fmt.Sprintf("%s changes nothing in %s.", subject, where)
	}
	changes := map[string]map[resource.Change]int{}
	drifts := map[string]bool{}
	for _, s := range p.Steps {
		if changes[s.Function] == nil {
			changes[s.Function] = map[resource.Change]int{}
		}
		changes[s.Function][s.Change]++
		drifts[s.Function] = drifts[s.Function] || s.Change == resource.Restore || s.RevertsDrift
	}
	var count [4]int // of functions, in the order of verbs
	for fn, of := range changes {
		switch {
		case len(of) == 1 && of[resource.Create] > 0:
			count[1]++
		case len(of) == 1 && of[resource.Delete] > 0:
			count[2]++
		case drifts[fn]:
			count[3]++
		default:
			count[0]++
		}
	}
	var parts []string
	for i, verb := range []string{"updates", "creates", "deletes", "reverts drift of"} {
		if count[i] == 0 {
			continue
		}
		part := fmt.Sprintf("%s %d", verb, count[i])
		if len(parts) == 0 {
			part = verb + " " + language.FormatCount(count[i], "function") + " in " + where
		}
		parts = append(parts, part)
	}
	return fmt.Sprintf("%s %s: %s in %s, about %s.", subject, inSeries(parts),
		language.FormatCount(len(p.Steps), "step"), language.FormatCount(p.Phases, "phase"), roughly(p.Expected))
}

// inSeries joins clauses: "a", "a and b", "a, b and c".
func inSeries(parts []string) string {
	if len(parts) < 2 {
		return strings.Join(parts, "")
	}
	last := len(parts) - 1
	return strings.Join(parts[:last], ", ") + " and " + parts[last]
}

// roughly formats a duration in milliseconds for people.
func roughly(ms int64) string {
	switch d := time.Duration(ms) * time.Millisecond; {
	case ms < 1000:
		return fmt.Sprintf("%d ms", max(ms, 10))
	case d < time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	default:
		return fmt.Sprintf("%.0f min", d.Minutes())
	}
}

// ImpactLines returns the impact of a plan, most severe first, each with its evidence.
func (p *Plan) ImpactLines() []ImpactLine {
	w := &words{p: p, out: []ImpactLine{}}
	w.consequences()
	if p.Outlook != nil {
		w.outlook()
	} else if cold := p.Impact.Cold; len(cold) > 0 {
		w.add(ColdStart, Info, "next invocation is a cold start: "+some(cold), "", nil)
	}
	rank := map[Severity]int{Critical: 0, Review: 1, Info: 2}
	slices.SortStableFunc(w.out, func(a, b ImpactLine) int { return rank[a.Severity] - rank[b.Severity] })
	return w.out
}

type words struct {
	p   *Plan
	out []ImpactLine
}

func (w *words) add(kind string, severity Severity, text, how string, from *tree.Origin) {
	w.out = append(w.out, ImpactLine{Kind: kind, Severity: severity, Text: text, How: how, From: from})
}

// either returns one of two severities.
func either[T any](is bool, yes, no T) T {
	if is {
		return yes
	}
	return no
}

// some names the first of many.
func some(names []string) string {
	const most = 8
	if len(names) <= most+1 {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// nobody returns the callers, or that there is none.
func nobody(who string) string {
	if who == "" {
		return "no one"
	}
	return who
}

func (w *words) consequences() {
	c := w.p.Impact
	for _, r := range c.Rules {
		name := r.Rule + " "
		if r.Rule == "approvals" || r.Rule == "stage" {
			name = ""
		}
		severity := either(r.Loosens, Critical, Info)
		if r.Differs {
			severity = Review
		}
		w.add(gateKind(r), severity, fmt.Sprintf("%s: %s%s → %s", w.p.Base.Stage, name, r.Before, r.After), "", nil)
	}
	if w.p.Outlook == nil || len(w.p.Outlook.Losses) == 0 {
		for _, r := range c.Removed {
			w.add(DataLoss, Critical, lossSentence(r), "", nil)
		}
	}
	for _, o := range c.Opened {
		kind, text := WiderAccess, fmt.Sprintf("%s opens to %s", o.Route, o.After)
		if o.Public {
			kind = PublicRoute
		}
		if o.Before != "" {
			text += fmt.Sprintf(" (now %s)", o.Before)
		}
		if o.Before != "" || strings.HasPrefix(o.Route, "ANY ") || strings.Contains(o.Route, "...}") {
			if o.Request != o.Route {
				text += ", such as " + o.Request // its new part does not follow from the route alone
			}
		}
		w.add(kind, either(o.Public, Critical, Review), text, "", o.From)
	}
	for _, m := range c.Moved {
		text := fmt.Sprintf("%s is handled by %s instead of %s", m.Request, m.Now, m.Was)
		if m.Shadowed {
			text += ", which it shadows"
		}
		w.add(ReroutedRequest, Review, text, "", nil)
	}
	for _, o := range c.Closed {
		w.closed(o)
	}
	for _, g := range c.Gaps {
		w.add(RouteGap, Review, fmt.Sprintf("%s is unavailable between steps %d and %d", g.Route, g.From+1, g.To+1),
			w.p.Steps[g.From].Address+" releases it before "+w.p.Steps[g.To].Address+" claims it", nil)
	}
	for _, g := range c.Gained {
		text := fmt.Sprintf("%s can now %s %s", g.Function, strings.Join(g.Verbs, ", "), g.Resource)
		if len(g.Except) > 0 {
			text += "; already could " + some(g.Except)
		}
		how := ""
		if g.Wildcard {
			how = "* includes all present and future resources"
		}
		w.add(NewPermission, either(g.Wildcard, Critical, Review), text, how, g.From)
	}
	for _, t := range c.Through {
		w.add(IndirectPermission, Review, fmt.Sprintf("%s can now indirectly, through %s: %s", t.Function, strings.Join(t.Via, " → "),
			some(t.May)), "", nil)
	}
	for _, g := range c.Lost {
		w.add(RemovedPermission, Info, fmt.Sprintf("%s can no longer %s %s", g.Function, strings.Join(g.Verbs, ", "), g.Resource), "", nil)
	}
}

func (w *words) closed(o impact.Closed) {
	text := fmt.Sprintf("%s is no longer open to %s; only %s can call it", o.Route, o.Before, nobody(o.After))
	if o.After == "" {
		text = fmt.Sprintf("%s is no longer available to %s", o.Route, o.Before)
	}
	if o.Request != o.Route {
		text += ", such as " + o.Request
	}
	calls, how := 0, ""
	if out := w.p.Outlook; out != nil {
		for _, a := range out.Invocations {
			if a.Trigger == o.Trigger {
				calls = a.Invocations
				how = fmt.Sprintf("%s in %s", language.FormatCount(a.Invocations, "request"), span(out.Over))
			}
		}
		if calls == 0 {
			how = "no requests in " + span(out.Over)
		}
	}
	w.add(NarrowerAccess, either(calls > 0, Critical, Review), text, how, nil)
}

// span returns how far back figures go.
func span(ms int64) string {
	d := time.Duration(ms) * time.Millisecond
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("the last %d days", int(d.Hours()/24))
	case d >= 2*time.Hour:
		return fmt.Sprintf("the last %d hours", int(d.Hours()))
	}
	return fmt.Sprintf("the last %d minutes", int(d.Minutes()))
}

func (w *words) outlook() {
	o := w.p.Outlook
	for _, t := range o.Tight {
		w.tight(t)
	}
	for _, s := range o.Schedules {
		w.schedule(s)
	}
	for _, l := range o.Losses {
		how := ""
		if l.Oldest > 0 {
			how = "the oldest from " + time.UnixMilli(l.Oldest).UTC().Format("2 January 2006")
		}
		w.add(DataLoss, Critical, fmt.Sprintf("%s of %s %s deleted",
			language.FormatCount(int(l.Count), strings.TrimSuffix(l.What, "s")), l.Function, either(l.Count == 1, "is", "are")), how, nil)
	}
	for _, c := range o.Costs {
		text := fmt.Sprintf("%s costs %s %s per month", c.Function, c.After, c.Currency)
		switch {
		case c.Before == c.After:
			continue // differences too small to show
		case c.Before == "":
		case c.After == "":
			text = fmt.Sprintf("%s no longer costs %s %s per month", c.Function, c.Before, c.Currency)
		default:
			text += ", now " + c.Before
		}
		w.add(CostImpact, Info, text, c.How, nil)
	}
	w.cold(o.Cold)
}

func (w *words) tight(t impact.NearLimit) {
	show := func(v float64) string {
		if t.What == "memory" {
			return language.FormatSize(int64(v))
		}
		if v < 10_000 {
			return fmt.Sprintf("%.0f ms", v)
		}
		return roughly(int64(v))
	}
	limit := show(t.Limit)
	if t.What == "timeout" {
		limit = language.FormatTime(time.Duration(t.Limit * float64(time.Millisecond)))
	}
	seen := map[string]string{"memory": "a peak of ", "timeout": "a p99 of "}[t.What]
	if t.What == "memory" {
		seen += fmt.Sprintf("%.0f MiB", t.Seen/(1<<20))
	} else {
		seen += show(t.Seen)
	}
	in := w.p.Base.Stage
	if t.Stage != "" {
		in = t.Stage
	}
	how := fmt.Sprintf("%s in %s in %s, %s", seen, language.FormatCount(t.Invocations, "invocation"), in, span(w.p.Outlook.Over))
	left := 100 * (1 - t.Seen/t.Limit)
	switch {
	case t.Under:
		w.add(kindOf(t.What), Critical, fmt.Sprintf("%s of %s is %s, below its observed %s", t.What, t.Function, limit, map[bool]string{true: "peak", false: "p99"}[t.What == "memory"]), how, nil)
	default:
		w.add(kindOf(t.What), either(left < 10, Review, Info),
			fmt.Sprintf("%s of %s used %s of %s", t.What, t.Function, percent(t.Seen/t.Limit), limit), how, nil)
	}
}

func kindOf(what string) string {
	if what == "timeout" {
		return TimeoutImpact
	}
	return MemoryImpact
}

func (w *words) schedule(s impact.Fires) {
	rate := func(n float64) string {
		if n > 0 && n < 1 {
			return fmt.Sprintf("%.0f times in 4 weeks", n*28)
		}
		if n == 1 {
			return "once a day"
		}
		return language.FormatNumber(n) + " times a day"
	}
	text := fmt.Sprintf("%s runs %s", s.Trigger, rate(s.After))
	switch {
	case s.After == 0:
		text = s.Trigger + " no longer runs"
	case s.Before > 0 && s.Before != s.After:
		text += ", now " + rate(s.Before)
	}
	how := ""
	if len(s.Next) > 0 {
		var next []string
		zone, err := time.LoadLocation(s.Zone)
		if err != nil || zone == nil {
			zone = time.UTC
		}
		day := ""
		for _, t := range s.Next {
			at := time.UnixMilli(t).In(zone)
			text := at.Format("15:04")
			if d := at.Format("Mon 2 Jan "); d != day {
				day, text = d, d+text
			}
			next = append(next, text)
		}
		how = "next " + strings.Join(next, ", ") + " " + zone.String()
	}
	w.add(ScheduleImpact, either(s.After == 0 && s.Before > 0, Review, Info), text, how, nil)
	if s.Overlaps {
		w.add(ScheduleImpact, Critical, fmt.Sprintf("runs of %s overlap: they take up to %s and start every %s", s.Trigger,
			roughly(int64(s.Usually)), language.FormatTime(time.Duration(s.Interval)*time.Millisecond)), "", nil)
	}
	if s.Lost > 0 {
		w.add(ScheduleImpact, Critical, fmt.Sprintf("%s of %s %s today, because its time has already passed in the new zone",
			language.FormatCount(s.Lost, "run"), s.Trigger, either(s.Lost == 1, "is skipped", "are skipped")), "", nil)
	}
	if s.Doubled > 0 {
		w.add(ScheduleImpact, Critical, fmt.Sprintf("%s of %s %s twice today, because its time is still to come in the new zone",
			language.FormatCount(s.Doubled, "run"), s.Trigger, either(s.Doubled == 1, "runs", "run")), "", nil)
	}
}

// percent formats a share as a percentage, at least "1%" unless it is zero.
func percent(share float64) string {
	if share > 0 && share < 0.01 {
		return "under 1%"
	}
	return fmt.Sprintf("%.0f%%", 100*share)
}

// cold adds which functions start cold, and whose callers wait for it.
func (w *words) cold(waiting []impact.Waiting) {
	known := map[string]bool{}
	for _, c := range waiting {
		if c.Callers < 0.05 {
			continue
		}
		known[c.Function] = true
		w.add(ColdStart, either(c.Callers >= 1, Review, Info), fmt.Sprintf(
			"%s starts cold, and about %.1f callers wait for it", c.Function, c.Callers),
			fmt.Sprintf("%.0f invocations per hour, each up to %s", c.PerHour, roughly(int64(c.StartMs))), nil)
	}
	var rest []string
	for _, fn := range w.p.Impact.Cold {
		if !known[fn] {
			rest = append(rest, fn)
		}
	}
	if len(rest) > 0 {
		w.add(ColdStart, Info, "next invocation is a cold start: "+some(rest), "", nil)
	}
}
