// Package consequence says what a change of a stage means beyond its steps:
// who may newly reach what, what becomes public, what starts cold, what is lost.
package consequence

import (
	"fmt"
	"slices"
	"sort"

	"rudmar/core/access"
	"rudmar/core/resource"
)

// Resource is a resource as it is, or as it will be.
type Resource struct {
	Address, Kind, Function string
	Attributes              map[string]any
}

// Reach is what a function may newly do, or may do no longer.
type Reach struct {
	Function string   `json:"function"`
	Verbs    []string `json:"verbs"`
	Resource string   `json:"resource"`
	Wildcard bool     `json:"wildcard,omitempty"`
}

// Opened is a route by which somebody may make a request that they could not
// make before.
type Opened struct {
	Function string `json:"function"`
	Trigger  string `json:"trigger"` // of the route: function/trigger
	Route    string `json:"route"`
	Request  string `json:"request"` // one that somebody may newly make
	Before   string `json:"before"`  // who could make it before; "" for nobody
	After    string `json:"after"`   // who may now
	Public   bool   `json:"public"`  // whether everybody may
}

// RuleChange is what becomes of a rule of entry that stands in a stage.
type RuleChange struct {
	Rule    string `json:"rule"` // which one, such as "approvals"
	Before  string `json:"before"`
	After   string `json:"after"`
	Loosens bool   `json:"loosens,omitempty"`
}

// Consequence is what a plan means.
type Consequence struct {
	Rules   []RuleChange `json:"rules"` // those that loosen first
	Gained  []Reach      `json:"gained"`
	Lost    []Reach      `json:"lost"`
	Opened  []Opened     `json:"opened"`
	Cold    []string     `json:"cold"`    // functions that start cold
	Removed []string     `json:"removed"` // what is lost with deletes, in words
}

// Weigh compares a stage before and after. touched gives the kind of change
// per address.
func Weigh(before, after []Resource, touched map[string]resource.Change) Consequence {
	c := Consequence{Rules: []RuleChange{}, Gained: []Reach{}, Lost: []Reach{}, Opened: []Opened{},
		Cold: []string{}, Removed: []string{}}
	had, has := statements(before), statements(after)
	for _, fn := range functions(had, has) {
		c.Gained = append(c.Gained, reach(fn, access.Gained(had[fn], has[fn]))...)
		c.Lost = append(c.Lost, reach(fn, access.Gained(has[fn], had[fn]))...)
	}
	c.Opened = openings(before, after)
	for address, change := range touched {
		kind, fn := resource.Split(address)
		switch {
		case kind == resource.Pointer && change != resource.Delete:
			c.Cold = append(c.Cold, fn)
		case kind == resource.Logs && change == resource.Delete:
			c.Removed = append(c.Removed, "all log lines of "+fn)
		case kind == resource.Revision && change == resource.Delete:
			c.Removed = append(c.Removed, "all kept revisions of "+fn)
		}
	}
	sort.Strings(c.Cold)
	sort.Strings(c.Removed)
	return c
}

func statements(resources []Resource) map[string][]access.Statement {
	out := map[string][]access.Statement{}
	for _, r := range resources {
		if r.Kind != resource.Grant {
			continue
		}
		s := access.Statement{Verbs: texts(r.Attributes["verbs"])}
		s.Resource, _ = r.Attributes["resource"].(string)
		out[r.Function] = append(out[r.Function], s)
	}
	return out
}

func texts(v any) []string {
	var out []string
	list, _ := v.([]any)
	for _, item := range list {
		out = append(out, fmt.Sprint(item))
	}
	return out
}

func functions(maps ...map[string][]access.Statement) []string {
	var out []string
	for _, m := range maps {
		for fn := range m {
			out = append(out, fn)
		}
	}
	sort.Strings(out)
	return slices.Compact(out)
}

func reach(fn string, gained []access.Statement) []Reach {
	var out []Reach
	for _, s := range gained {
		out = append(out, Reach{Function: fn, Verbs: s.Verbs, Resource: s.Resource,
			Wildcard: slices.Contains(s.Verbs, "*") || s.Resource == "*"})
	}
	return out
}
