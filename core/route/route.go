// Package route parses routes, matches requests, and finds routes that collide.
//
// A route is a method, or ANY, and a path whose segments are literals, {name} parameters, or a
// {rest...} at the end. Literals precede parameters, which precede rest segments, from left to
// right; a named method precedes ANY.
//
// All its functions can be called concurrently.
package route

import (
	"fmt"
	"net/url"
	"slices"
	"strings"
)

// SegmentKind is the kind of one path segment; lower ranks first.
type SegmentKind uint8

// The kinds, in order of rank.
const (
	Literal SegmentKind = iota
	Parameter
	Rest
)

// Segment is one segment of a path: a literal text, or the name of a parameter.
type Segment struct {
	Kind SegmentKind
	Text string // as it is written
}

// Value returns a literal without percent encoding.
func (s Segment) Value() string { return unescape(s.Text) }

// Route is a parsed route.
type Route struct {
	Method   string // upper case, or "ANY"
	Segments []Segment
}

// Methods that a route can name.
func Methods() []string {
	return []string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "ANY"}
}

// Parse reads a route such as "GET /stations/{station}".
func Parse(text string) (Route, error) {
	method, path, found := strings.Cut(strings.TrimSpace(text), " ")
	path = strings.TrimSpace(path)
	if !found || path == "" {
		return Route{}, fmt.Errorf("a route is a method and a path, such as GET /stations/{station}")
	}
	known := false
	for _, m := range Methods() {
		known = known || m == method
	}
	if !known {
		return Route{}, fmt.Errorf("unknown method %q (expected %s)", method, strings.Join(Methods(), ", "))
	}
	segments, err := parsePath(path)
	return Route{Method: method, Segments: segments}, err
}

func parsePath(path string) ([]Segment, error) {
	if !strings.HasPrefix(path, "/") {
		return nil, fmt.Errorf("a path must start with /")
	}
	if strings.ContainsAny(path, "?# \t\n") {
		return nil, fmt.Errorf("a path has no query, fragment or space")
	}
	if path == "/" {
		return []Segment{}, nil
	}
	pieces := strings.Split(path[1:], "/")
	seen := map[string]bool{}
	out := make([]Segment, 0, len(pieces))
	for i, piece := range pieces {
		segment := Segment{Kind: Literal, Text: piece}
		switch inner, braces := cutBraces(piece); {
		case piece == "":
			return nil, fmt.Errorf("a path has no empty segment; remove the second / or the one at the end")
		case braces:
			segment = Segment{Kind: Parameter, Text: inner}
			if name, rest := strings.CutSuffix(inner, "..."); rest {
				if i != len(pieces)-1 {
					return nil, fmt.Errorf("{%s} matches the rest of the path, so it must be at the end", inner)
				}
				segment = Segment{Kind: Rest, Text: name}
			}
			if !isIdentifier(segment.Text) {
				return nil, fmt.Errorf("{%s} is not a parameter; its name has letters, digits and _", inner)
			}
			if seen[segment.Text] {
				return nil, fmt.Errorf("duplicate parameter {%s}", segment.Text)
			}
			seen[segment.Text] = true
		case strings.ContainsAny(piece, "{}"):
			return nil, fmt.Errorf("%q: a parameter must be a whole segment, as in /{name}/", piece)
		}
		out = append(out, segment)
	}
	return out, nil
}

func cutBraces(s string) (string, bool) {
	if len(s) >= 2 && s[0] == '{' && s[len(s)-1] == '}' {
		return s[1 : len(s)-1], true
	}
	return s, false
}

func isIdentifier(s string) bool {
	for i, c := range s {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
		if !letter && (i == 0 || c < '0' || c > '9') {
			return false
		}
	}
	return s != ""
}

// Path returns the path as it is written.
func (r Route) Path() string {
	if len(r.Segments) == 0 {
		return "/"
	}
	b := strings.Builder{}
	for _, s := range r.Segments {
		b.WriteByte('/')
		switch s.Kind {
		case Literal:
			b.WriteString(s.Text)
		case Parameter:
			b.WriteString("{" + s.Text + "}")
		case Rest:
			b.WriteString("{" + s.Text + "...}")
		}
	}
	return b.String()
}

// String returns the route as it is written.
func (r Route) String() string { return r.Method + " " + r.Path() }

// Parameters lists the names of the parameters, in order.
func (r Route) Parameters() []string {
	var out []string
	for _, s := range r.Segments {
		if s.Kind != Literal {
			out = append(out, s.Text)
		}
	}
	return out
}

// Match reports whether the route matches a request for the escaped path, and with which parameters. A rest
// matches one segment or more. A GET route also matches HEAD (RFC 9110).
func (r Route) Match(method, path string) (map[string]string, bool) {
	if r.Method != "ANY" && r.Method != method && !(r.Method == "GET" && method == "HEAD") {
		return nil, false
	}
	pieces := pathPieces(path)
	params := map[string]string{}
	for i, s := range r.Segments {
		if i >= len(pieces) {
			return nil, false
		}
		switch s.Kind {
		case Literal:
			if unescape(pieces[i]) != s.Value() {
				return nil, false
			}
		case Parameter:
			if pieces[i] == "" {
				return nil, false
			}
			params[s.Text] = unescape(pieces[i])
		case Rest:
			params[s.Text] = unescape(strings.Join(pieces[i:], "/"))
			return params, params[s.Text] != ""
		}
	}
	return params, len(pieces) == len(r.Segments)
}

func pathPieces(path string) []string {
	path = strings.TrimPrefix(path, "/")
	if path == "" {
		return nil
	}
	return strings.Split(path, "/")
}

func unescape(s string) string {
	if out, err := url.PathUnescape(s); err == nil {
		return out
	}
	return s
}

// Before reports whether r wins over other for a request that both match.
func (r Route) Before(other Route) bool { return compare(r, other) < 0 }

func compare(a, b Route) int {
	for i := 0; i < len(a.Segments) && i < len(b.Segments); i++ {
		if d := int(a.Segments[i].Kind) - int(b.Segments[i].Kind); d != 0 {
			return d
		}
	}
	if d := len(b.Segments) - len(a.Segments); d != 0 {
		return d
	}
	switch {
	case a.Method != "ANY" && b.Method == "ANY":
		return -1
	case a.Method == "ANY" && b.Method != "ANY":
		return 1
	}
	return 0
}

// Winner returns the index of the route that matches a request, with its parameters, or -1 if none does. Among
// equals the one that names the method wins, then the first.
func Winner(routes []Route, method, path string) (int, map[string]string) {
	best, params := -1, map[string]string(nil)
	for i, r := range routes {
		p, ok := r.Match(method, path)
		if !ok {
			continue
		}
		if best < 0 || r.Before(routes[best]) || !routes[best].Before(r) && r.Method == method &&
			routes[best].Method != method {
			best, params = i, p
		}
	}
	return best, params
}

// Allowed lists the methods of the routes that match a path, sorted; none if no route matches it.
func Allowed(routes []Route, path string) []string {
	var out []string
	for _, method := range Methods() {
		if method == "ANY" {
			continue
		}
		if i, _ := Winner(routes, method, path); i >= 0 {
			out = append(out, method)
		}
	}
	slices.Sort(out)
	return out
}

// Collide reports whether two routes match the same request with equal rank, and returns such a request.
func Collide(a, b Route) (request string, collide bool) {
	if compare(a, b) != 0 || a.Method != b.Method {
		return "", false
	}
	path := strings.Builder{}
	for i := range a.Segments {
		path.WriteByte('/')
		s, t := a.Segments[i], b.Segments[i]
		switch {
		case s.Kind == Literal && s.Value() != t.Value():
			return "", false
		case s.Kind == Literal:
			path.WriteString(s.Text)
		case s.Kind == Parameter:
			path.WriteString("x")
		default:
			path.WriteString("x/y")
		}
	}
	if path.Len() == 0 {
		path.WriteByte('/')
	}
	method := a.Method
	if method == "ANY" {
		method = "GET"
	}
	return method + " " + path.String(), true
}

// Key is the same for two routes just when they collide.
func (r Route) Key() string {
	b := strings.Builder{}
	b.WriteString(r.Method)
	for _, s := range r.Segments {
		switch s.Kind {
		case Literal:
			b.WriteString("/" + Escape(s.Value()))
		case Parameter:
			b.WriteString("/{}")
		case Rest:
			b.WriteString("/{...}")
		}
	}
	return b.String()
}

// Escape returns a segment in the form of a request's path.
func Escape(segment string) string { return url.PathEscape(segment) }
