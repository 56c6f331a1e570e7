package consequence

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"rudmar/core/resource"
	"rudmar/core/route"
)

// Who may call, as openings name them.
const (
	anyone  = "anyone"
	members = "members"
)

// maxRequests is how many requests are held against routes at most. Beyond it
// every route that is new or altered counts as opening.
const maxRequests = 50_000

// door is a route that answers, with who may call it.
type door struct {
	route             route.Route
	to                []string
	function, trigger string
}

// admits tells whether somebody may pass: anyone, a member of no group, or one
// of a group. Members are in every opening for anyone, and those of a group in
// every one for members.
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

// key is the same for two doors that let the same people in by the same requests.
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
			continue // the platform takes none either
		}
		_, trigger := resource.Split(r.Address)
		out = append(out, door{route: parsed, to: to[trigger], function: r.Function, trigger: trigger})
	}
	slices.SortFunc(out, func(a, b door) int { return strings.Compare(a.trigger, b.trigger) })
	return out
}

// openings lists the routes by which somebody may newly make a request, and the
// requests that another function answers. It is
// decided by the requests themselves: of all those that the routes before and
// after tell apart one is tried, with the routes' own matching.
func openings(before, after []Resource) opening {
	was, is := doors(before), doors(after)
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

// opening is what becomes of requests: which somebody may newly make, and which
// another trigger answers.
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

// meeting lists the doors that may take a request that one of others takes.
func meeting(doors, others []door) []door {
	var out []door
	for _, d := range doors {
		if slices.ContainsFunc(others, func(o door) bool { return meet(d.route, o.route) }) {
			out = append(out, d)
		}
	}
	return out
}

// meet tells whether two routes take a request in common.
func meet(a, b route.Route) bool {
	heads := func(m string) bool { return m == "GET" || m == "HEAD" } // a route for GET takes HEAD, too
	if a.Method != b.Method && a.Method != "ANY" && b.Method != "ANY" && !(heads(a.Method) && heads(b.Method)) {
		return false
	}
	for i := range max(len(a.Segments), len(b.Segments)) {
		switch {
		case i >= len(a.Segments) || i >= len(b.Segments):
			return false
		case a.Segments[i].Kind == route.Rest || b.Segments[i].Kind == route.Rest:
			return true
		case a.Segments[i].Kind == route.Literal && b.Segments[i].Kind == route.Literal &&
			a.Segments[i].Value() != b.Segments[i].Value():
			return false
		}
	}
	return true
}

func everyIndex(doors []door) []int {
	out := make([]int, len(doors))
	for i := range out {
		out[i] = i
	}
	return out
}

// search goes through the requests that routes tell apart, segment by segment.
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

// walk tries the requests whose path begins with pieces; was and is are the
// doors that may still take them. It gives false where there are too many.
func (s *search) walk(pieces []string, was, is []int) bool {
	if len(is) == 0 {
		return true // nobody can newly make what nothing takes
	}
	if s.tried++; s.tried > maxRequests {
		return false
	}
	s.try(pieces, was, is)
	next, ends := map[string]bool{}, true
	for _, side := range []struct {
		doors []door
		alive []int
	}{{s.was, was}, {s.is, is}} {
		for _, i := range side.alive {
			segments := side.doors[i].route.Segments
			if len(pieces) <= len(segments) {
				ends = false
			}
			switch {
			case len(pieces) < len(segments) && segments[len(pieces)].Kind == route.Literal:
				next[segments[len(pieces)].Value()] = true
			case len(pieces) < len(segments) && segments[len(pieces)].Kind == route.Parameter:
				next[s.spare] = true
			case len(segments) > 0 && segments[len(segments)-1].Kind == route.Rest:
				next[s.spare], next[""] = true, true // only a rest takes an empty one
			}
		}
	}
	if ends {
		return true // what is left takes everything longer just so
	}
	for _, piece := range slices.Sorted(maps.Keys(next)) {
		longer := append(slices.Clone(pieces), piece)
		if !s.walk(longer, alive(s.was, was, longer), alive(s.is, is, longer)) {
			return false
		}
	}
	return true
}

// alive keeps the doors that may take a path beginning with pieces, of which
// all but the last were looked at.
func alive(doors []door, among []int, pieces []string) []int {
	at, piece := len(pieces)-1, pieces[len(pieces)-1]
	var out []int
	for _, i := range among {
		segments := doors[i].route.Segments
		rest := len(segments) > 0 && segments[len(segments)-1].Kind == route.Rest && at >= len(segments)-1
		if rest || at < len(segments) &&
			(segments[at].Kind == route.Literal && segments[at].Value() == piece ||
				segments[at].Kind == route.Parameter && piece != "") {
			out = append(out, i)
		}
	}
	return out
}

// try holds the requests for one path against the doors, by every method that
// makes a difference.
func (s *search) try(pieces []string, was, is []int) {
	path := "/" + strings.Join(escaped(pieces), "/")
	routes := func(doors []door, among []int) (out []route.Route) {
		for _, i := range among {
			out = append(out, doors[i].route)
		}
		return out
	}
	before, after := routes(s.was, was), routes(s.is, is)
	for _, method := range append(route.Methods(), "TRACE") { // one that no route can name, too
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

// note keeps that somebody may newly make a request; of several of one door
// the one that opens most.
func (s *search) note(d, from door, newly []string, request string) {
	public := slices.Contains(newly, anyone)
	if old := s.found[d.trigger]; old != nil && (old.Public || !public) {
		return
	}
	s.found[d.trigger] = &Opened{Function: d.function, Trigger: d.trigger, Route: d.route.String(), Request: request,
		Before: strings.Join(from.to, ", "), After: strings.Join(d.to, ", "), Public: public}
}
