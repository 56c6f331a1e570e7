package plan

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"rudmar/core/canon"
	"rudmar/core/impact"
	"rudmar/core/resource"
)

// Fact is one step or one impact of a plan, as values. An approval covers facts, so
// rewording a sentence never voids it. Facts exclude everything that is only true at
// one moment, such as serials, tags and expected times.
type Fact struct {
	// Kind is a resource.Change for a step, else a kind of impact.
	Kind string `json:"kind"`
	// Subject is the address of a step, or the route, request, function or rule of an impact.
	Subject string      `json:"subject"`
	Target  string      `json:"target,omitempty"`
	Values  []FactValue `json:"values,omitempty"`
}

// FactValue is a value before and after. Absent values are null.
type FactValue struct {
	Name   string `json:"name,omitempty"`
	Before any    `json:"before"`
	After  any    `json:"after"`
}

// Kinds of impact.
const (
	PublicRoute        = "public-route"
	WiderAccess        = "wider-access"
	NarrowerAccess     = "narrower-access"
	ReroutedRequest    = "rerouted-request"
	NewPermission      = "new-permission"
	IndirectPermission = "indirect-permission"
	RemovedPermission  = "removed-permission"
	WeakerGates        = "weaker-gates"
	ChangedGates       = "changed-gates"
	StricterGates      = "stricter-gates"
	DataLoss           = "data-loss"
	RouteGap           = "route-gap"
	ColdStart          = "cold-start"
	MemoryImpact       = "memory"
	TimeoutImpact      = "timeout"
	ScheduleImpact     = "schedule"
	CostImpact         = "cost"
)

// Facts returns the steps of the plan with their values and its impact, each in its
// canonical form (RFC 8785), sorted. Plans with the same effect return the same facts.
func (p *Plan) Facts() []string {
	var facts []Fact
	for _, s := range p.Steps {
		if s.RecordOnly {
			continue
		}
		f := Fact{Kind: string(s.Change), Subject: s.Address}
		for _, a := range s.Attributes {
			before := a.Before
			if a.Drifted {
				before = a.Actual
			}
			f.Values = append(f.Values, FactValue{Name: a.Name, Before: before, After: a.After})
		}
		facts = append(facts, f)
	}
	add := func(kind, subject string, values ...FactValue) {
		facts = append(facts, Fact{Kind: kind, Subject: subject, Values: values})
	}
	c := p.Impact
	for _, r := range c.Rules {
		add(gateKind(r), r.Rule, FactValue{Before: r.Before, After: r.After})
	}
	for _, o := range c.Opened {
		kind := WiderAccess
		if o.Public {
			kind = PublicRoute
		}
		add(kind, o.Route, FactValue{After: o.After})
	}
	for _, o := range c.Closed {
		add(NarrowerAccess, o.Route, FactValue{Before: o.Before})
	}
	for _, m := range c.Moved {
		add(ReroutedRequest, m.Request, FactValue{Before: m.Was, After: m.Now})
	}
	for _, t := range c.Through {
		add(IndirectPermission, t.Function, FactValue{Name: strings.Join(t.Via, " → "), After: strings.Join(t.May, "; ")})
	}
	for _, g := range c.Gained {
		add(NewPermission, g.Function, FactValue{Name: g.Resource, After: strings.Join(g.Verbs, ", ")})
	}
	for _, g := range c.Lost {
		add(RemovedPermission, g.Function, FactValue{Name: g.Resource, Before: strings.Join(g.Verbs, ", ")})
	}
	for _, r := range c.Removed {
		add(DataLoss, r)
	}
	out := make([]string, 0, len(facts))
	for _, f := range facts {
		f.Target = p.Base.Target.String()
		out = append(out, f.canonical())
	}
	slices.Sort(out)
	return out
}

// gateKind returns the kind of impact of a change of a rule.
func gateKind(r impact.RuleChange) string {
	switch {
	case r.Loosens:
		return WeakerGates
	case r.Differs:
		return ChangedGates
	}
	return StricterGates
}

// canonical returns the RFC 8785 form. Values come from JSON, so all have one.
func (f Fact) canonical() string {
	members := []canon.Member{{Name: "kind", Value: f.Kind}, {Name: "subject", Value: f.Subject}}
	if f.Target != "" {
		members = append(members, canon.Member{Name: "target", Value: f.Target})
	}
	if len(f.Values) > 0 {
		values := make([]any, len(f.Values))
		for i, v := range f.Values {
			own := []canon.Member{{Name: "before", Value: v.Before}, {Name: "after", Value: v.After}}
			if v.Name != "" {
				own = append(own, canon.Member{Name: "name", Value: v.Name})
			}
			values[i] = own
		}
		members = append(members, canon.Member{Name: "values", Value: values})
	}
	return canon.Text(members)
}

// ParseFact parses the canonical form of a fact. It reports false for the sentences that
// approvals consisted of before format 2.
func ParseFact(text string) (f Fact, ok bool) {
	if !strings.HasPrefix(text, "{") || json.Unmarshal([]byte(text), &f) != nil {
		return Fact{}, false
	}
	return f, true
}

// Sentence returns a fact as a sentence. A text that is not a fact is returned unchanged.
func Sentence(text string) string {
	f, ok := ParseFact(text)
	if !ok {
		return text
	}
	out := f.sentence()
	if f.Target != "" {
		out += " on " + f.Target
	}
	return out
}

func (f Fact) sentence() string {
	var v FactValue
	if len(f.Values) > 0 {
		v = f.Values[0]
	}
	switch f.Kind {
	case WeakerGates, ChangedGates, StricterGates:
		return fmt.Sprintf("gate %s: %v → %v", f.Subject, v.Before, v.After)
	case PublicRoute, WiderAccess:
		return fmt.Sprintf("%s opens to %v", f.Subject, v.After)
	case NarrowerAccess:
		return fmt.Sprintf("%s is no longer open to %v", f.Subject, v.Before)
	case ReroutedRequest:
		return fmt.Sprintf("%s is handled by %v instead of %v", f.Subject, v.After, v.Before)
	case IndirectPermission:
		return fmt.Sprintf("%s can now indirectly, through %s, %v", f.Subject, v.Name, v.After)
	case NewPermission:
		return fmt.Sprintf("%s can now %v %s", f.Subject, v.After, v.Name)
	case RemovedPermission:
		return fmt.Sprintf("%s can no longer %v %s", f.Subject, v.Before, v.Name)
	case DataLoss:
		return lossSentence(f.Subject)
	}
	var changes []string
	for _, a := range f.Values {
		changes = append(changes, fmt.Sprintf("%s %s → %s", a.Name, canon.Text(a.Before), canon.Text(a.After)))
	}
	return strings.TrimSuffix(fmt.Sprintf("%s %s: %s", f.Kind, f.Subject, strings.Join(changes, ", ")), ": ")
}

// lossSentence states what a deletion of a log store or of revisions loses.
func lossSentence(address string) string {
	kind, fn := resource.Split(address)
	if kind == resource.Logs {
		return "all log lines of " + fn + " are deleted"
	}
	return "all stored revisions of " + fn + " are deleted"
}

// MovesTraffic reports whether a fact is an update of a pointer: it follows from the
// revision, and a traffic shift repeats it with other shares.
func MovesTraffic(text string) bool {
	f, ok := ParseFact(text)
	return ok && f.Kind == string(resource.Update) && strings.HasPrefix(f.Subject, resource.Pointer+"/")
}
