package route_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"rudmar/core/route"
)

func mustParse(t *testing.T, text string) route.Route {
	t.Helper()
	r, err := route.Parse(text)
	if err != nil {
		t.Fatalf("%s: %v", text, err)
	}
	return r
}

func TestParse(t *testing.T) {
	for _, text := range []string{"GET /", "ANY /a", "POST /a/{b}/c", "DELETE /files/{rest...}",
		"GET /{a}/{b}", "GET /a.b-c_d~e", "GET /{azAZ_09}/{Z}/{z}"} {
		if r := mustParse(t, text); r.String() != text {
			t.Errorf("%s is written %s", text, r)
		}
	}
	for text, says := range map[string]string{
		"/a": "method and a path", "GET": "method and a path", "FETCH /a": "unknown method", "GET a": "must start with /",
		"GET /a/": "empty segment", "GET //a": "empty segment",
		"GET /a?b=c": "no query", "GET /{a": "whole segment", "GET /x{a}": "whole segment", "GET /{a}/{a}": "duplicate parameter",
		"GET /{a...}/b": "at the end", "GET /{}": "not a parameter", "GET /{1a}": "not a parameter", "GET /{a[}": "not a parameter",
		"GET /{a`}": "not a parameter", "GET /{a:}": "not a parameter", "GET /{a/b}": "whole segment", "": "method and a path",
	} {
		if _, err := route.Parse(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, want %q", text, err, says)
		}
	}
}

func TestParameters(t *testing.T) {
	for text, want := range map[string]string{"GET /": "[]", "GET /a/b": "[]", "GET /{a}/b/{c}": "[a c]",
		"GET /x/{rest...}": "[rest]"} {
		if got := fmt.Sprint(mustParse(t, text).Parameters()); got != want {
			t.Errorf("%s has the parameters %s, want %s", text, got, want)
		}
	}
}

// Of two equal routes, the one that names the method matches, and the first if both do, in any order.
func TestExplicitMethodWins(t *testing.T) {
	for _, tt := range []struct {
		routes string
		method string
		want   string
	}{
		{"ANY /a,GET /a", "GET", "GET /a"},
		{"GET /a,ANY /a", "GET", "GET /a"},
		{"ANY /a,GET /a", "POST", "ANY /a"},
		{"POST /a", "HEAD", ""}, {"PUT /a,GET /b", "HEAD", ""},
		{"GET /a,HEAD /a", "HEAD", "HEAD /a"},
		{"HEAD /a,GET /a", "HEAD", "HEAD /a"},
		{"GET /{a},GET /{b}", "GET", "GET /{a}"},
		{"GET /a,HEAD /a", "GET", "GET /a"},
		{"ANY /a,GET /{b}", "GET", "ANY /a"},
	} {
		var routes []route.Route
		for _, text := range strings.Split(tt.routes, ",") {
			routes = append(routes, mustParse(t, text))
		}
		got := ""
		i, _ := route.Winner(routes, tt.method, "/a")
		if i >= 0 {
			got = routes[i].String()
		}
		if got != tt.want {
			t.Errorf("of %s %d takes %s, want %s", tt.routes, i, tt.method, tt.want)
		}
	}
}

func TestAllowed(t *testing.T) {
	routes := []route.Route{mustParse(t, "GET /a"), mustParse(t, "POST /a"), mustParse(t, "ANY /b")}
	for path, want := range map[string]string{"/a": "[GET HEAD POST]", "/b": "[DELETE GET HEAD OPTIONS PATCH POST PUT]",
		"/c": "[]"} {
		if got := fmt.Sprint(route.Allowed(routes, path)); got != want {
			t.Errorf("%s allows %s, want %s", path, got, want)
		}
	}
}

func TestMatch(t *testing.T) {
	tests := []struct {
		route, method, path string
		want                string // parameters, or "no"
	}{
		{"GET /stations", "GET", "/stations", "map[]"},
		{"GET /stations", "POST", "/stations", "no"},
		{"ANY /stations", "POST", "/stations", "map[]"},
		{"GET /stations", "GET", "/stations/", "no"},
		{"GET /", "GET", "/", "map[]"},
		{"GET /stations/{station}", "GET", "/stations/hill", "map[station:hill]"},
		{"GET /stations/{station}", "GET", "/stations/on%20the%2Fhill", "map[station:on the/hill]"},
		{"GET /stations/{station}", "GET", "/stations/", "no"},
		{"GET /files/{rest...}", "GET", "/files/a/b/c", "map[rest:a/b/c]"},
		{"GET /files/{rest...}", "GET", "/files", "no"},
		{"GET /files/{rest...}", "GET", "/files/", "no"},
		{"GET /{a}/x/{b}", "GET", "/1/x/2", "map[a:1 b:2]"},
		{"GET /{a}/x/{b}", "GET", "/1/y/2", "no"},
		{"GET /caf%C3%A9", "GET", "/x", "no"},
	}
	for _, tt := range tests {
		params, ok := mustParse(t, tt.route).Match(tt.method, tt.path)
		got := "no"
		if ok {
			got = fmt.Sprint(params)
		}
		if got != tt.want {
			t.Errorf("%s takes %s %s: %s, want %s", tt.route, tt.method, tt.path, got, tt.want)
		}
	}
}

func TestWinner(t *testing.T) {
	texts := []string{"GET /{any...}", "GET /stations/{station}", "GET /stations/list", "ANY /stations/list",
		"GET /{a}/list", "ANY /{a}/{b}"}
	var routes []route.Route
	for _, text := range texts {
		routes = append(routes, mustParse(t, text))
	}
	for request, want := range map[string]string{
		"GET /stations/list": "GET /stations/list", "POST /stations/list": "ANY /stations/list",
		"GET /stations/hill": "GET /stations/{station}",
		"GET /boxes/list":    "GET /{a}/list", "POST /boxes/list": "ANY /{a}/{b}",
		"GET /a/b/c": "GET /{any...}", "POST /a/b/c": "",
	} {
		method, path, _ := strings.Cut(request, " ")
		i, _ := route.Winner(routes, method, path)
		got := ""
		if i >= 0 {
			got = texts[i]
		}
		if got != want {
			t.Errorf("%s goes to %q, want %q", request, got, want)
		}
	}
}

// A pair collides exactly if both match some request with equal rank, and the example is such a request.
func TestCollisionsAgreeWithMatching(t *testing.T) {
	dice := rand.New(rand.NewPCG(3, 4))
	pieces := []string{"a", "b", "{x}", "{y}"}
	random := func() route.Route {
		text := []string{"GET ", "ANY ", "POST "}[dice.IntN(3)]
		for i, n := 0, dice.IntN(4); i < n; i++ {
			piece := pieces[dice.IntN(len(pieces))]
			if strings.Contains(text, piece) {
				piece = "a"
			}
			text += "/" + piece
		}
		if dice.IntN(4) == 0 {
			text += "/{rest...}"
		}
		if strings.HasSuffix(text, " ") {
			text += "/"
		}
		return mustParse(t, text)
	}
	collided := 0
	for range 20_000 {
		a, b := random(), random()
		request, collide := route.Collide(a, b)
		if _, back := route.Collide(b, a); back != collide {
			t.Fatalf("%s and %s collide one way only", a, b)
		}
		if !collide {
			continue
		}
		collided++
		method, path, _ := strings.Cut(request, " ")
		if _, ok := a.Match(method, path); !ok {
			t.Fatalf("%s does not take the example %s", a, request)
		}
		if _, ok := b.Match(method, path); !ok {
			t.Fatalf("%s does not take the example %s", b, request)
		}
		if a.Before(b) || b.Before(a) {
			t.Fatalf("%s and %s collide but one ranks first", a, b)
		}
	}
	if collided < 100 {
		t.Errorf("only %d pairs collided: the test shows little", collided)
	}
}

// Of two routes that match one request without a collision, exactly one wins.
func TestWinnerIsUnique(t *testing.T) {
	routes := []string{"GET /a/{x}", "GET /{x}/b", "GET /a/b", "ANY /a/b", "GET /{r...}", "GET /a/{r...}"}
	for _, request := range []string{"/a/b", "/a/c", "/c/b", "/a/b/c"} {
		for i := range routes {
			for j := range routes {
				a, b := mustParse(t, routes[i]), mustParse(t, routes[j])
				_, takesA := a.Match("GET", request)
				_, takesB := b.Match("GET", request)
				if i != j && takesA && takesB && a.Before(b) == b.Before(a) {
					t.Errorf("%s: neither of %s and %s wins", request, a, b)
				}
			}
		}
	}
}

func FuzzRoute(f *testing.F) {
	f.Add("GET /stations/{station}", "/stations/hill")
	f.Add("ANY /{rest...}", "//%zz/")
	f.Fuzz(func(t *testing.T, text, path string) {
		r, err := route.Parse(text)
		if err != nil {
			return
		}
		r.Match("GET", path)
		if back, err := route.Parse(r.String()); err != nil || back.String() != r.String() {
			t.Errorf("%q is written %q, which reads as %v %v", text, r, back, err)
		}
		if _, collide := route.Collide(r, r); !collide {
			t.Errorf("%s does not collide with itself", r)
		}
	})
}
