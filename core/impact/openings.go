package impact

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"rudmar/core/resource"
	"rudmar/core/route"
)

// The callers that openings name.
const (
	anyone  = "anyone"
	members = "authenticated"
)

// maxRequests is the maximum number of requests that are compared. Beyond it every new or changed route counts
// as wider access.
const maxRequests = 50_000

// door is an enabled route, with its callers.
type door struct {
	route             route.Route
	values            []string // of the route's segments
	to                []string
	function, trigger string
}

// admits reports whether a caller is allowed: anyone, a member of no group, or one of a group. Members can use
// every opening for anyone, and those of a group every one for members.
func (d door) admits(who string) bool {
	switch {
	case slices.Contains(d.to, anyone):
		return true
	case who == anyone:
		return false
	case slices.Contains(d.to, members):
		return true
	}
	return slices.Contains(d.to, who)
}

// key is equal for two doors that admit the same callers with the same requests.
func (d door) key() string {
	return d.route.String() + " " + strings.Join(slices.Sorted(slices.Values(d.to)), " ")
}

// doors lists the routes that answer, sorted by trigger.
func doors(resources []Resource) []door {
	to := map[string][]string{}
	for _, r := range resources {
		if r.Kind == resource.Opening {
			_, trigger := resource.Split(r.Address)
			to[trigger] = texts(r.Attributes["to"])
		}
	}
	var out []door
	for _, r := range resources {
		if r.Kind != resource.Route || r.Attributes["enabled"] == false {
			continue
		}
		parsed, err := route.Parse(fmt.Sprint(r.Attributes["method"], " ", r.Attributes["path"]))
		if err != nil {
			continue // the platform accepts none either
		}
		_, trigger := resource.Split(r.Address)
		values := make([]string, len(parsed.Segments))
		for i := range parsed.Segments {
			values[i] = parsed.Segments[i].Value()
		}
		out = append(out, door{route: parsed, values: values, to: to[trigger], function: r.Function, trigger: trigger})
	}
	slices.SortFunc(out, func(a, b door) int { return strings.Compare(a.trigger, b.trigger) })
	return out
}

// openings lists the routes by which somebody can make a new request, and the requests that another function
// receives. It compares requests: of all requests that the routes before and after distinguish it tries one
// each, with the routes' own matching.
func openings(was, is []door) opening {
	changed := append(unlike(was, is), unlike(is, was)...)
	changed = append(changed, otherwise(was, is)...)
	if len(changed) == 0 {
		return opening{opened: []Opened{}, moved: []Moved{}}
	}
	s := &search{was: meeting(was, changed), is: meeting(is, changed), found: map[string]*Opened{},
		moved: map[Moved]string{}, still: map[string]string{}}
	for _, d := range is {
		s.still[d.trigger] = d.route.String()
	}
	s.spare = s.unused()
	if !s.walk(nil, everyIndex(s.was), everyIndex(s.is)) {
		for _, d := range unlike(is, was) {
			s.note(d, door{}, d.to, d.route.String())
		}
	}
	out := opening{opened: []Opened{}, moved: []Moved{}}
	for _, d := range is {
		if o := s.found[d.trigger]; o != nil {
			out.opened = append(out.opened, *o)
		}
	}
	for m, request := range s.moved {
		m.Request = request
		out.moved = append(out.moved, m)
	}
	slices.SortFunc(out.moved, func(a, b Moved) int { return strings.Compare(a.Was+" "+a.Now, b.Was+" "+b.Now) })
	return out
}

// opening is the change of a set of requests: those that somebody can make now, and those that another trigger
// receives.
type opening struct {
	opened []Opened
	moved  []Moved
}

// otherwise lists the doors that are on both sides and lead to another function.
func otherwise(was, is []door) []door {
	function := map[string]string{}
	for _, d := range was {
		function[d.key()] = d.function
	}
	var out []door
	for _, d := range is {
		if before, there := function[d.key()]; there && before != d.function {
			out = append(out, d)
		}
	}
	return out
}

// unlike lists the doors of a that b does not have, whatever they are called.
func unlike(a, b []door) []door {
	known := make(map[string]bool, len(b))
	for _, d := range b {
		known[d.key()] = true
	}
	var out []door
	for _, d := range a {
		if !known[d.key()] {
			out = append(out, d)
		}
	}
	return out
}

// meeting lists the doors that can match a request that one of the others matches.
func meeting(doors, others []door) []door {
	tree := &paths{}
	for i := range others {
		tree.add(&others[i])
	}
	var out []door
	for i := range doors {
		if tree.meets(&doors[i], 0) {
			out = append(out, doors[i])
		}
	}
	return out
}

func everyIndex(doors []door) []int {
	out := make([]int, len(doors))
	for i := range out {
		out[i] = i
	}
	return out
}

// search enumerates the requests that routes distinguish, segment by segment.
type search struct {
	was, is []door
	spare   string // a segment that no route names
	tried   int
	found   map[string]*Opened // by trigger
	moved   map[Moved]string   // without its request → the first such request
	still   map[string]string  // trigger → its route afterwards
}

func (s *search) unused() string {
	named := map[string]bool{}
	for _, d := range slices.Concat(s.was, s.is) {
		for _, segment := range d.route.Segments {
			named[segment.Value()] = true
		}
	}
	spare := "x"
	for named[spare] {
		spare += "x"
	}
	return spare
}

// walk tries the requests whose path starts with pieces; was and is are the doors that can still match them. It
// returns false if there are too many.
func (s *search) walk(pieces []string, was, is []int) bool {
	if len(is) == 0 {
		return true // a request that no route matches is not new to anybody
	}
	if s.tried++; s.tried > maxRequests {
		return false
	}
	s.try(pieces, was, is)
	next, ends := map[string]bool{}, true
	before, after := newOnward(s.was, was, len(pieces)), newOnward(s.is, is, len(pieces))
	for _, side := range []*onward{before, after} {
		ends = ends && !side.longer
		for value := range side.literal {
			next[value] = true
		}
		if len(side.open) > 0 || len(side.rest) > 0 {
			next[s.spare] = true
		}
		if len(side.rest) > 0 {
			next[""] = true // only a rest parameter matches an empty segment
		}
	}
	if ends {
		return true // the remainder matches everything longer as well
	}
	for _, piece := range slices.Sorted(maps.Keys(next)) {
		if !s.walk(append(slices.Clone(pieces), piece), before.by(piece), after.by(piece)) {
			return false
		}
	}
	return true
}

// onward groups the doors that can match a path by their next segment.
type onward struct {
	literal map[string][]int
	open    []int // a parameter: any segment that is not empty
	rest    []int // any segment
	longer  bool  // one of them has a segment here, or ends before it
}

func newOnward(doors []door, among []int, at int) *onward {
	o := &onward{literal: map[string][]int{}}
	for _, i := range among {
		segments := doors[i].route.Segments
		last := len(segments) - 1
		o.longer = o.longer || at <= len(segments)
		switch {
		case last >= 0 && segments[last].Kind == route.Rest && at >= last:
			o.rest = append(o.rest, i)
		case at > last:
		case segments[at].Kind == route.Literal:
			o.literal[doors[i].values[at]] = append(o.literal[doors[i].values[at]], i)
		case segments[at].Kind == route.Parameter:
			o.open = append(o.open, i)
		}
	}
	return o
}

// by returns the doors that continue with a segment. Which of them matches a request does not depend on their
// order.
func (o *onward) by(piece string) []int {
	out := slices.Concat(o.literal[piece], o.rest)
	if piece != "" {
		out = append(out, o.open...)
	}
	return out
}

// try compares the requests for one path, by every method that makes a difference.
func (s *search) try(pieces []string, was, is []int) {
	path := "/" + strings.Join(escaped(pieces), "/")
	routes := func(doors []door, among []int) (out []route.Route) {
		for _, i := range among {
			out = append(out, doors[i].route)
		}
		return out
	}
	before, after := routes(s.was, was), routes(s.is, is)
	for _, method := range append(route.Methods(), "TRACE") { // including a segment that no route names
		if method == "ANY" {
			continue
		}
		to, _ := route.Winner(after, method, path)
		if to < 0 {
			continue
		}
		var from door
		if i, _ := route.Winner(before, method, path); i >= 0 {
			from = s.was[was[i]]
		}
		door := s.is[is[to]]
		if from.trigger != "" && from.function != door.function {
			m := Moved{Was: from.trigger, Now: door.trigger, Shadowed: s.still[from.trigger] == from.route.String()}
			if _, known := s.moved[m]; !known {
				s.moved[m] = method + " " + path
			}
		}
		var newly []string
		for _, who := range slices.Concat([]string{anyone, members}, door.to) {
			if door.admits(who) && !from.admits(who) {
				newly = append(newly, who)
			}
		}
		if len(newly) > 0 {
			s.note(door, from, newly, method+" "+path)
		}
	}
}

func escaped(pieces []string) []string {
	out := make([]string, len(pieces))
	for i, p := range pieces {
		out[i] = route.Escape(p)
	}
	return out
}

// note records that somebody can make a new request; of several for one door the one that opens most.
func (s *search) note(d, from door, newly []string, request string) {
	public := slices.Contains(newly, anyone)
	if old := s.found[d.trigger]; old != nil && (old.Public || !public) {
		return
	}
	s.found[d.trigger] = &Opened{Function: d.function, Trigger: d.trigger, Route: d.route.String(), Request: request,
		Before: strings.Join(from.to, ", "), After: strings.Join(d.to, ", "), Public: public}
}
