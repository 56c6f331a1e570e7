package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"rudmar/core/consequence"
	"rudmar/core/language"
	"rudmar/core/resource"
	"rudmar/core/tree"
)

// Tone says how much a line of a plan matters to somebody who decides.
type Tone string

// The tones, worst first.
const (
	Bad  Tone = "bad"  // it loosens, loses, or breaks
	Wait Tone = "wait" // it is to be looked at
	Note Tone = "note" // it is good to know
)

// Line is one thing that a plan means, in words.
type Line struct {
	Kind string       `json:"kind"` // one word: rules, public, reach, memory, …
	Tone Tone         `json:"tone"`
	Text string       `json:"text"`
	How  string       `json:"how,omitempty"` // the figures behind it, or the arithmetic
	From *tree.Origin `json:"from,omitempty"`
}

// Summary says in a sentence what a plan does.
func (p *Plan) Summary() string {
	where := p.Base.Stage
	if t := p.Base.Target.String(); t != "" {
		where += " on " + t
	}
	who := fmt.Sprintf("Version %d", p.Base.Version)
	if p.Draft {
		who = "This edit"
	}
	if p.Empty() {
		if p.Base.Version == p.Base.From && !p.Draft {
			return fmt.Sprintf("%s has just what version %d wants. Nothing to do.", where, p.Base.Version)
		}
		return fmt.Sprintf("%s onto %s: nothing changes there.", who, where)
	}
	changes := map[string]map[resource.Change]int{}
	drifts := map[string]bool{}
	for _, s := range p.Steps {
		if changes[s.Function] == nil {
			changes[s.Function] = map[resource.Change]int{}
		}
		changes[s.Function][s.Change]++
		drifts[s.Function] = drifts[s.Function] || s.Change == resource.Restore || s.UndoesDrift
	}
	var count [4]int // what becomes of functions, in the order of verbs
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
	verbs := [4][2]string{{"changes", "change"}, {"appears", "appear"}, {"goes", "go"}, {"is put right", "are put right"}}
	var parts []string
	for i, n := range count {
		switch {
		case n == 1:
			parts = append(parts, "1 function "+verbs[i][0])
		case n > 1:
			parts = append(parts, fmt.Sprintf("%d functions %s", n, verbs[i][1]))
		}
	}
	return fmt.Sprintf("%s onto %s: %s; %s in %s, about %s.", who, where, strings.Join(parts, ", "),
		language.FormatCount(len(p.Steps), "step"), language.FormatCount(p.Waves, "wave"), roughly(p.Expected))
}

// verb gives a verb for so many.
func verb(n int, word string) string {
	if n == 1 {
		return word + "s"
	}
	return word
}

// roughly gives a time in milliseconds as people say it.
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

// Says tells what running the plan means, worst first, each with what it is known by.
func (p *Plan) Says() []Line {
	w := &words{p: p, out: []Line{}}
	w.consequences()
	if p.Outlook != nil {
		w.outlook()
	} else if cold := p.Consequences.Cold; len(cold) > 0 {
		w.add("cold", Note, "the next call starts cold: "+some(cold), "", nil)
	}
	rank := map[Tone]int{Bad: 0, Wait: 1, Note: 2}
	slices.SortStableFunc(w.out, func(a, b Line) int { return rank[a.Tone] - rank[b.Tone] })
	return w.out
}

type words struct {
	p   *Plan
	out []Line
}

func (w *words) add(kind string, tone Tone, text, how string, from *tree.Origin) {
	w.out = append(w.out, Line{Kind: kind, Tone: tone, Text: text, How: how, From: from})
}

// either gives one tone or another.
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

// nobody gives who may, or that nobody does.
func nobody(who string) string {
	if who == "" {
		return "nobody"
	}
	return who
}

func (w *words) consequences() {
	c := w.p.Consequences
	for _, r := range c.Rules {
		name := r.Rule + " "
		if r.Rule == "approvals" || r.Rule == "stage" {
			name = ""
		}
		kind := "rules"
		if r.Loosens {
			kind = "loosens"
		}
		w.add(kind, either(r.Loosens, Bad, Note), fmt.Sprintf("%s: %s%s → %s", w.p.Base.Stage, name, r.Before, r.After), "", nil)
	}
	if w.p.Outlook == nil || len(w.p.Outlook.Losses) == 0 {
		for _, r := range c.Removed {
			w.add("lost", Bad, r, "", nil)
		}
	}
	for _, o := range c.Opened {
		kind, text := "opened", fmt.Sprintf("%s opens to %s", o.Route, o.After)
		if o.Public {
			kind = "public"
		}
		if o.Before != "" {
			text += fmt.Sprintf(" (now %s)", o.Before)
		}
		if o.Before != "" || strings.HasPrefix(o.Route, "ANY ") || strings.Contains(o.Route, "...}") {
			if o.Request != o.Route {
				text += ", such as " + o.Request // what is new of it does not follow from the route alone
			}
		}
		w.add(kind, either(o.Public, Bad, Wait), text, "", o.From)
	}
	for _, m := range c.Moved {
		text := fmt.Sprintf("%s is answered by %s, not by %s", m.Request, m.Now, m.Was)
		if m.Shadowed {
			text += ", which it shadows"
		}
		w.add("moved", Wait, text, "", nil)
	}
	for _, o := range c.Closed {
		w.closed(o)
	}
	for _, g := range c.Gaps {
		w.add("gap", Wait, fmt.Sprintf("%s answers nobody between the steps %d and %d", g.Route, g.From+1, g.To+1),
			w.p.Steps[g.From].Address+" gives it up before "+w.p.Steps[g.To].Address+" takes it", nil)
	}
	for _, g := range c.Gained {
		text := fmt.Sprintf("%s may newly %s %s", g.Function, strings.Join(g.Verbs, ", "), g.Resource)
		if len(g.Except) > 0 {
			text += "; it could already " + some(g.Except)
		}
		how := ""
		if g.Wildcard {
			how = "a * stands for all there are and will be"
		}
		w.add("reach", either(g.Wildcard, Bad, Wait), text, how, g.From)
	}
	for _, t := range c.Through {
		w.add("through", Wait, fmt.Sprintf("%s may newly bring about, through %s: %s", t.Function, strings.Join(t.Via, " → "),
			some(t.May)), "", nil)
	}
	for _, g := range c.Lost {
		w.add("reach", Note, fmt.Sprintf("%s may no longer %s %s", g.Function, strings.Join(g.Verbs, ", "), g.Resource), "", nil)
	}
}

func (w *words) closed(o consequence.Closed) {
	text := fmt.Sprintf("%s closes to %s; who may still is %s", o.Route, o.Before, nobody(o.After))
	if o.After == "" {
		text = fmt.Sprintf("%s is gone for %s", o.Route, o.Before)
	}
	if o.Request != o.Route {
		text += ", such as " + o.Request
	}
	calls, how := 0, ""
	if out := w.p.Outlook; out != nil {
		for _, a := range out.Calls {
			if a.Trigger == o.Trigger {
				calls = a.Calls
				how = fmt.Sprintf("it was called %s over %s", times(a.Calls), span(out.Over))
			}
		}
		if calls == 0 {
			how = "it was not called over " + span(out.Over)
		}
	}
	w.add("closed", either(calls > 0, Bad, Wait), text, how, nil)
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// span gives how far back figures go.
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
			how = "the oldest of " + time.UnixMilli(l.Oldest).UTC().Format("2 January 2006")
		}
		w.add("lost", Bad, fmt.Sprintf("%d %s of %s are lost", l.Count, l.What, l.Function), how, nil)
	}
	for _, c := range o.Costs {
		text := fmt.Sprintf("%s costs %s %s a month", c.Function, c.After, c.Currency)
		switch {
		case c.Before == c.After:
			continue // what is too little to tell apart
		case c.Before == "":
		case c.After == "":
			text = fmt.Sprintf("%s no longer costs %s %s a month", c.Function, c.Before, c.Currency)
		default:
			text += ", now " + c.Before
		}
		w.add("cost", Note, text, c.How, nil)
	}
	w.cold(o.Cold)
}

func (w *words) tight(t consequence.Tight) {
	show := func(v float64) string {
		if t.What == "memory" {
			return language.FormatSize(int64(v))
		}
		return fmt.Sprintf("%.0f ms", v)
	}
	limit := show(t.Limit)
	if t.What == "timeout" {
		limit = language.FormatTime(time.Duration(t.Limit * float64(time.Millisecond)))
	}
	seen := map[string]string{"memory": "a peak of ", "timeout": "99 of 100 calls within "}[t.What]
	if t.What == "memory" {
		seen += fmt.Sprintf("%.0f MiB", t.Seen/(1<<20))
	} else {
		seen += show(t.Seen)
	}
	in := w.p.Base.Stage
	if t.Stage != "" {
		in = t.Stage
	}
	how := fmt.Sprintf("%s, by %s in %s over %s", seen, language.FormatCount(t.Calls, "call"), in, span(w.p.Outlook.Over))
	left := 100 * (1 - t.Seen/t.Limit)
	switch {
	case t.Under:
		w.add(kindOf(t.What), Bad, fmt.Sprintf("%s has %s, less than it needed", t.Function, limit), how, nil)
	default:
		w.add(kindOf(t.What), either(left < 10, Wait, Note),
			fmt.Sprintf("%s has %s, %.0f %% more than it needed", t.Function, limit, 100*(t.Limit/t.Seen-1)), how, nil)
	}
}

func kindOf(what string) string {
	if what == "timeout" {
		return "time"
	}
	return what
}

func (w *words) schedule(s consequence.Fires) {
	rate := func(n float64) string {
		if n > 0 && n < 1 {
			return fmt.Sprintf("%.0f times in 4 weeks", n*28)
		}
		if n == 1 {
			return "once a day"
		}
		return fmt.Sprintf("%.4g times a day", n)
	}
	text := fmt.Sprintf("%s fires %s", s.Trigger, rate(s.After))
	switch {
	case s.After == 0:
		text = s.Trigger + " no longer fires"
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
	w.add("schedule", either(s.After == 0 && s.Before > 0, Wait, Note), text, how, nil)
	if s.Overlaps {
		w.add("schedule", Bad, fmt.Sprintf("runs of %s overlap: they take up to %s and start every %s", s.Trigger,
			roughly(int64(s.Usually)), language.FormatTime(time.Duration(s.Interval)*time.Millisecond)), "", nil)
	}
	if s.Lost > 0 {
		w.add("schedule", Bad, fmt.Sprintf("%s of %s %s today: by the new zone the time has passed",
			language.FormatCount(s.Lost, "fire"), s.Trigger, either(s.Lost == 1, "is left out", "are left out")), "", nil)
	}
	if s.Doubled > 0 {
		w.add("schedule", Bad, fmt.Sprintf("%s of %s %s twice today: by the new zone the time is still to come",
			language.FormatCount(s.Doubled, "fire"), s.Trigger, verb(s.Doubled, "come")), "", nil)
	}
}

// cold says which functions start cold, and whose callers wait for it.
func (w *words) cold(waiting []consequence.Waiting) {
	known := map[string]bool{}
	for _, c := range waiting {
		if c.Callers < 0.05 {
			continue
		}
		known[c.Function] = true
		w.add("cold", either(c.Callers >= 1, Wait, Note), fmt.Sprintf(
			"%s starts cold, and about %.1f callers wait for it", c.Function, c.Callers),
			fmt.Sprintf("%.0f calls an hour, and up to %s for the longest", c.PerHour, roughly(int64(c.StartMs))), nil)
	}
	var rest []string
	for _, fn := range w.p.Consequences.Cold {
		if !known[fn] {
			rest = append(rest, fn)
		}
	}
	if len(rest) > 0 {
		w.add("cold", Note, "the next call starts cold: "+some(rest), "", nil)
	}
}
