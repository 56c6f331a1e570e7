package plan

import (
	"fmt"
	"slices"
	"strings"

	"rudmar/core/canon"
	"rudmar/core/resource"
)

// Confirmation says why entering by the plan has to be confirmed by somebody who
// types the stage's name: something is deleted, or everybody may newly call
// something. It is "" where it need not be.
func (p *Plan) Confirmation() string {
	var reasons []string
	deletes := 0
	for _, s := range p.Steps {
		if s.Change == resource.Delete && !s.RecordOnly {
			deletes++
		}
	}
	switch {
	case deletes == 1:
		reasons = append(reasons, "1 resource is deleted")
	case deletes > 1:
		reasons = append(reasons, fmt.Sprintf("%d resources are deleted", deletes))
	}
	for _, o := range p.Consequences.Opened {
		if o.Public {
			reasons = append(reasons, o.Route+" becomes public")
		}
	}
	return strings.Join(reasons, "; ")
}

// Meaning gives what running the plan does and means, a sentence each, sorted:
// its steps with their values, and its consequences. It leaves out what is only
// true of a moment, such as serials, tags and expected times, so that two plans
// of one meaning give the same sentences. It is what people agree to.
func (p *Plan) Meaning() []string {
	out := []string{}
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	for _, s := range p.Steps {
		if s.RecordOnly {
			continue
		}
		var changes []string
		for _, a := range s.Attributes {
			changes = append(changes, fmt.Sprintf("%s %s → %s", a.Name, canon.Text(a.Before), canon.Text(a.After)))
		}
		add("%s", strings.TrimSuffix(fmt.Sprintf("%s %s: %s", s.Change, s.Address, strings.Join(changes, ", ")), ": "))
	}
	c := p.Consequences
	for _, r := range c.Rules {
		add("the rule %s: %s → %s", r.Rule, r.Before, r.After)
	}
	for _, o := range c.Opened {
		add("%s opens to %s", o.Route, o.After)
	}
	for _, o := range c.Closed {
		add("%s closes to %s", o.Route, o.Before)
	}
	for _, m := range c.Moved {
		add("%s is answered by %s, not by %s", m.Request, m.Now, m.Was)
	}
	for _, t := range c.Through {
		add("%s may newly bring about, through %s, %s", t.Function, strings.Join(t.Via, " → "), strings.Join(t.May, "; "))
	}
	for _, g := range c.Gained {
		add("%s may newly %s %s", g.Function, strings.Join(g.Verbs, ", "), g.Resource)
	}
	for _, g := range c.Lost {
		add("%s may no longer %s %s", g.Function, strings.Join(g.Verbs, ", "), g.Resource)
	}
	for _, r := range c.Removed {
		add("%s are lost", r)
	}
	if t := p.Base.Target.String(); t != "" {
		for i := range out {
			out[i] += " on " + t
		}
	}
	slices.Sort(out)
	return out
}
