// Package impact computes the impact of a change beyond its steps: access and routes that open or
// close, cold starts, data loss and, from observed invocations, memory and time limits, schedules
// and cost.
//
// All its functions can be called concurrently.
package impact

import (
	"fmt"
	"slices"
	"sort"

	"rudmar/core/access"
	"rudmar/core/resource"
	"rudmar/core/tree"
)

// Resource is a resource as it is, or as it will be.
type Resource struct {
	Address, Kind, Function string
	Attributes              map[string]any
	From                    *tree.Origin // where it is declared; nil if unknown
}

// Reach is a permission that a function gains or loses.
type Reach struct {
	Function string   `json:"function"`
	Verbs    []string `json:"verbs"`
	Resource string   `json:"resource"`
	// Except describes the part of a wider pattern that is not new: "read tables/a".
	Except   []string     `json:"except,omitempty"`
	Wildcard bool         `json:"wildcard,omitempty"`
	From     *tree.Origin `json:"from,omitempty"`
}

// Opened is a route by which somebody can make a request that they could not make before.
type Opened struct {
	Function string       `json:"function"`
	Trigger  string       `json:"trigger"` // function/trigger of the route
	Route    string       `json:"route"`
	Request  string       `json:"request"` // a request that somebody can now send
	Before   string       `json:"before"`  // who could send it before; "" for nobody
	After    string       `json:"after"`   // who can now
	Public   bool         `json:"public"`  // whether everybody can
	From     *tree.Origin `json:"from,omitempty"`
}

// Closed is a route by which somebody can no longer make a request.
type Closed struct {
	Function string `json:"function"`
	Trigger  string `json:"trigger"`
	Route    string `json:"route"`
	Request  string `json:"request"` // a request that somebody could send
	Before   string `json:"before"`  // who could send it
	After    string `json:"after"`   // who still can; "" for nobody
}

// Moved is a request that another trigger answers from now on.
type Moved struct {
	Request string `json:"request"`
	Was     string `json:"before"` // the trigger that responded: function/trigger
	Now     string `json:"after"`
	// Shadowed means that the former route still exists, and a more specific one takes precedence.
	Shadowed bool `json:"shadowed,omitempty"`
}

// RuleChange is a change of a standing rule of a stage.
type RuleChange struct {
	Rule    string `json:"rule"` // the kind of gate, such as "approvals"
	Before  string `json:"before"`
	After   string `json:"after"`
	Loosens bool   `json:"weaker,omitempty"`
	Differs bool   `json:"different,omitempty"` // neither weaker nor stricter
}

// Gap is a route that is unavailable between two steps of a plan.
type Gap struct {
	Route string `json:"route"`
	From  int    `json:"from"` // the step that deletes it
	To    int    `json:"to"`   // the step that creates it
}

// Consequence is the impact of a plan, independent of the time of its execution.
type Impact struct {
	Rules   []RuleChange `json:"rules"` // weaker rules first
	Gained  []Reach      `json:"newPermissions"`
	Lost    []Reach      `json:"removedPermissions"`
	Through []Through    `json:"indirectPermissions"`
	Opened  []Opened     `json:"openedRoutes"`
	Closed  []Closed     `json:"closedRoutes"`
	Moved   []Moved      `json:"reroutedRequests"`
	Gaps    []Gap        `json:"routeGaps"`
	Cold    []string     `json:"coldStarts"` // functions with cold starts
	Removed []string     `json:"dataLoss"`   // log stores and revisions that are deleted, by address
}

// Assess compares a stage before and after. touched has the kind of change per address.
func Assess(before, after []Resource, touched map[string]resource.Change) Impact {
	c := Impact{Rules: []RuleChange{}, Gained: []Reach{}, Lost: []Reach{}, Gaps: []Gap{},
		Cold: []string{}, Removed: []string{}}
	had, has := statements(before), statements(after)
	declared := map[string]*tree.Origin{}
	for i := range after {
		if after[i].From != nil {
			declared[after[i].Address] = after[i].From
		}
	}
	for _, fn := range functions(had, has) {
		for _, r := range reach(fn, access.Gained(had[fn], has[fn])) {
			r.From = declared[resource.Grant+"/"+fn+"/"+r.Resource]
			c.Gained = append(c.Gained, r)
		}
		c.Lost = append(c.Lost, reach(fn, access.Gained(has[fn], had[fn]))...)
	}
	c.Through = through(before, after, had, has)
	was, is := doors(before), doors(after)
	o := openings(was, is)
	c.Opened, c.Moved = o.opened, o.moved
	for i, opened := range c.Opened {
		c.Opened[i].From = declared[resource.Route+"/"+opened.Trigger]
	}
	c.Closed = []Closed{}
	for _, gone := range openings(is, was).opened {
		c.Closed = append(c.Closed, Closed{Function: gone.Function, Trigger: gone.Trigger, Route: gone.Route,
			Request: gone.Request, Before: gone.After, After: gone.Before})
	}
	for address, change := range touched {
		kind, fn := resource.Split(address)
		switch {
		case kind == resource.Pointer && change != resource.Delete:
			c.Cold = append(c.Cold, fn)
		case kind == resource.Logs && change == resource.Delete:
			c.Removed = append(c.Removed, address)
		case kind == resource.Revision && change == resource.Delete:
			c.Removed = append(c.Removed, address)
		}
	}
	sort.Strings(c.Cold)
	sort.Strings(c.Removed)
	return c
}

func statements(resources []Resource) map[string][]access.Statement {
	out := map[string][]access.Statement{}
	for _, r := range resources {
		if r.Kind == resource.Function {
			out[r.Function] = append(out[r.Function], networkOf(r)...)
		}
		if r.Kind != resource.Grant {
			continue
		}
		s := access.Statement{Verbs: texts(r.Attributes["verbs"])}
		s.Resource, _ = r.Attributes["resource"].(string)
		out[r.Function] = append(out[r.Function], s)
	}
	return out
}

// NetworkVerb is the verb of a function's access to other machines, as a permission on network/HOST:PORT, or on
// network/* for all of them.
const NetworkVerb = "connect"

// networkOf returns a function's access to other machines as permissions.
func networkOf(r Resource) []access.Statement {
	if r.Attributes["network"] != true {
		return nil
	}
	to := texts(r.Attributes["network_to"])
	if len(to) == 0 {
		to = []string{"*"}
	}
	var out []access.Statement
	for _, host := range to {
		out = append(out, access.Statement{Verbs: []string{NetworkVerb}, Resource: "network/" + host})
	}
	return out
}

func texts(v any) []string {
	if list, ok := v.([]string); ok {
		return list
	}
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

func reach(fn string, gained []access.Gain) []Reach {
	var out []Reach
	for _, g := range gained {
		r := Reach{Function: fn, Verbs: g.Verbs, Resource: g.Resource, Wildcard: g.Wildcard()}
		for _, e := range g.Except {
			for _, verb := range e.Verbs {
				r.Except = append(r.Except, verb+" "+e.Resource)
			}
		}
		out = append(out, r)
	}
	return out
}
