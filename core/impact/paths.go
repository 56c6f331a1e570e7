package impact

import (
	"slices"

	"rudmar/core/route"
)

// paths is a tree of routes by their segments, to find overlapping routes without comparing all pairs.
type paths struct {
	literal map[string]*paths
	open    *paths   // a parameter
	rest    []string // methods of routes that match every longer path
	ends    []string // methods of routes that end here
}

func (p *paths) add(d *door) {
	for i, segment := range d.route.Segments {
		switch segment.Kind {
		case route.Literal:
			if p.literal == nil {
				p.literal = map[string]*paths{}
			}
			next := p.literal[d.values[i]]
			if next == nil {
				next = &paths{}
				p.literal[d.values[i]] = next
			}
			p = next
		case route.Parameter:
			if p.open == nil {
				p.open = &paths{}
			}
			p = p.open
		case route.Rest:
			p.rest = append(p.rest, d.route.Method)
			return
		}
	}
	p.ends = append(p.ends, d.route.Method)
}

// meets reports whether a route of the tree matches a request that the door matches, too; at is the number of
// compared segments.
func (p *paths) meets(d *door, at int) bool {
	takes := func(other string) bool { return methodsMeet(d.route.Method, other) }
	if slices.ContainsFunc(p.rest, takes) {
		return true
	}
	if at == len(d.route.Segments) {
		return slices.ContainsFunc(p.ends, takes)
	}
	switch d.route.Segments[at].Kind {
	case route.Rest:
		return p.any(takes)
	case route.Literal:
		if next := p.literal[d.values[at]]; next != nil && next.meets(d, at+1) {
			return true
		}
	case route.Parameter:
		for _, next := range p.literal {
			if next.meets(d, at+1) {
				return true
			}
		}
	}
	return p.open != nil && p.open.meets(d, at+1)
}

// any reports whether a route from here on has a method that take accepts.
func (p *paths) any(takes func(method string) bool) bool {
	if slices.ContainsFunc(p.ends, takes) || slices.ContainsFunc(p.rest, takes) || p.open != nil && p.open.any(takes) {
		return true
	}
	for _, next := range p.literal {
		if next.any(takes) {
			return true
		}
	}
	return false
}

// methodsMeet reports whether two routes with these methods match requests with one method.
func methodsMeet(a, b string) bool {
	heads := func(m string) bool { return m == "GET" || m == "HEAD" } // a GET route also matches HEAD
	return a == b || a == "ANY" || b == "ANY" || heads(a) && heads(b)
}
