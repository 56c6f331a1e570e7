package impact_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"rudmar/core/impact"
	"rudmar/core/resource"
	"rudmar/core/timing"
	"rudmar/core/tree"
)

type r = impact.Resource

func grant(fn, resource string, verbs ...any) r {
	return r{Address: "grant/" + fn + "/" + resource, Kind: "grant", Function: fn,
		Attributes: map[string]any{"resource": resource, "verbs": verbs}}
}

func route(fn, path string, to ...any) []r {
	return []r{
		{Address: "opening/" + fn + "/ask", Kind: "opening", Function: fn, Attributes: map[string]any{"to": to}},
		{Address: "route/" + fn + "/ask", Kind: "route", Function: fn,
			Attributes: map[string]any{"method": "GET", "path": path}},
	}
}

func TestReach(t *testing.T) {
	before := []r{grant("warn", "tables/a", "read"), grant("warn", "tables/b", "read"), grant("gone", "tables/x", "write")}
	after := []r{grant("warn", "tables/*", "read"), grant("new", "tables/a", "*")}
	c := impact.Assess(before, after, nil)
	if got, want := fmt.Sprint(c.Gained), "[{new [*] tables/a [] true <nil>} {warn [read] tables/* [read tables/a read tables/b] true <nil>}]"; got != want {
		t.Errorf("gained %s, want %s", got, want)
	}
	if got, want := fmt.Sprint(c.Lost), "[{gone [write] tables/x [] false <nil>}]"; got != want {
		t.Errorf("lost %s, want %s", got, want)
	}
}

// Attributes can have Go's types as well as those of JSON.
func TestTypedAttributes(t *testing.T) {
	typed := grant("warn", "tables/a")
	typed.Attributes["verbs"] = []string{"read", "write"}
	plain := grant("warn", "tables/a", "read", "write")
	if got, want := fmt.Sprint(impact.Assess(nil, []r{typed}, nil).Gained), fmt.Sprint(impact.Assess(nil, []r{plain}, nil).Gained); got != want || !strings.Contains(got, "write") {
		t.Errorf("gained %s, want %s", got, want)
	}
	open := route("warn", "/a")
	open[0].Attributes["to"] = []string{"anyone"}
	if c := impact.Assess(nil, open, nil); len(c.Opened) != 1 || !c.Opened[0].Public {
		t.Errorf("%+v", c.Opened)
	}
}

// Access to other machines is a permission: one more destination, or all of them, is gained.
func TestNetworkAccess(t *testing.T) {
	of := func(to ...any) []impact.Resource {
		attributes := map[string]any{"network": true}
		if len(to) > 0 {
			attributes["network_to"] = to
		}
		return []impact.Resource{{Address: "function/warn", Kind: "function", Function: "warn", Attributes: attributes}}
	}
	none := []impact.Resource{{Address: "function/warn", Kind: "function", Function: "warn", Attributes: map[string]any{"network": false}}}
	for _, tt := range []struct {
		name          string
		before, after []impact.Resource
		gained, lost  string
	}{
		{"all", none, of(), "connect network/*", ""},
		{"one", none, of("a:1"), "connect network/a:1", ""},
		{"one more", of("a:1"), of("a:1", "b:2"), "connect network/b:2", ""},
		{"all instead of one", of("a:1"), of(), "connect network/*", ""},
		{"one instead of all", of(), of("a:1"), "", "connect network/*"},
		{"the same", of(), of(), "", ""},
	} {
		c := impact.Assess(tt.before, tt.after, nil)
		told := func(list []impact.Reach) (out string) {
			for _, r := range list {
				out += strings.Join(r.Verbs, ",") + " " + r.Resource
			}
			return out
		}
		if told(c.Gained) != tt.gained || told(c.Lost) != tt.lost {
			t.Errorf("%s: gained %q, lost %q", tt.name, told(c.Gained), told(c.Lost))
		}
	}
}

func TestPublicRoutes(t *testing.T) {
	tests := []struct {
		name          string
		before, after []any
		want          string
	}{
		{"new and public", nil, []any{"anyone"}, "GET /frost: →anyone public=true"},
		{"new for a group", nil, []any{"growers"}, "GET /frost: →growers public=false"},
		{"authenticated to anyone", []any{"authenticated"}, []any{"anyone"}, "GET /frost: authenticated→anyone public=true"},
		{"one more group", []any{"growers"}, []any{"growers", "council"},
			"GET /frost: growers→growers, council public=false"},
		{"group to authenticated", []any{"growers"}, []any{"authenticated"}, "GET /frost: growers→authenticated public=false"},
		{"authenticated to a group", []any{"authenticated"}, []any{"growers"}, ""},
		{"anyone to authenticated", []any{"anyone"}, []any{"authenticated"}, ""},
		{"the same", []any{"authenticated"}, []any{"authenticated"}, ""},
	}
	for _, tt := range tests {
		var before []r
		if tt.before != nil {
			before = route("warn", "/frost", tt.before...)
		}
		got := ""
		for _, o := range impact.Assess(before, route("warn", "/frost", tt.after...), nil).Opened {
			got += fmt.Sprintf("%s: %s→%s public=%v", o.Route, o.Before, o.After, o.Public)
		}
		if got != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, got, tt.want)
		}
	}
}

func TestColdStartsAndDataLoss(t *testing.T) {
	c := impact.Assess(nil, nil,
		map[string]resource.Change{"pointer/b": "update", "pointer/a": "create", "pointer/gone": "delete",
			"logs/gone": "delete", "revision/gone": "delete", "function/c": "update", "revision/c": "create",
			"logs/c": "create", "pointer/c": "replace"})
	if got := fmt.Sprint(c.Cold, c.Removed); got != "[a b c] [logs/gone revision/gone]" {
		t.Error(got)
	}
}

// A gained permission has its declaration, if it is known.
func TestReachNamesThePath(t *testing.T) {
	said, silent := grant("warn", "tables/a", "read"), grant("warn", "tables/b", "read")
	said.From = &tree.Origin{File: "warn/function.yaml", Line: 9}
	gained := impact.Assess(nil, []r{said, silent}, nil).Gained
	if len(gained) != 2 || gained[0].From == nil || *gained[0].From != *said.From || gained[1].From != nil {
		t.Errorf("%+v", gained)
	}
}

// The impact is the same for any order of routes.
func TestRouteOrderIsIrrelevant(t *testing.T) {
	after := all("c/x GET /a anyone", "a/x ANY /b authenticated", "b/x POST /{rest...} growers", "a/y HEAD /c anyone")
	want := fmt.Sprint(impact.Assess(nil, after, nil).Opened)
	dice := rand.New(rand.NewPCG(3, 5))
	for range 20 {
		dice.Shuffle(len(after), func(i, j int) { after[i], after[j] = after[j], after[i] })
		if got := fmt.Sprint(impact.Assess(nil, after, nil).Opened); got != want {
			t.Fatalf("%s, and in another order %s", want, got)
		}
	}
}

// A deleted route narrows access if no other one matches its method; GET includes HEAD, and ANY all.
func TestNarrowerAccessByMethod(t *testing.T) {
	for _, tt := range []struct {
		before, after string
		closes        bool
	}{
		{"GET", "GET", false}, {"GET", "ANY", false}, {"HEAD", "GET", false}, {"POST", "ANY", false}, {"ANY", "ANY", false},
		{"GET", "POST", true}, {"POST", "GET", true}, {"HEAD", "POST", true}, {"ANY", "GET", true}, {"ANY", "POST", true},
	} {
		c := impact.Assess(all("a/x "+tt.before+" /s authenticated"), all("a/x "+tt.after+" /s authenticated"), nil)
		if got := len(c.Closed) > 0; got != tt.closes {
			t.Errorf("%s to %s: closes %v (%+v)", tt.before, tt.after, got, c.Closed)
		}
	}
}

// A cron schedule and an interval share no due time.
func TestScheduleKinds(t *testing.T) {
	clock, err := timing.Read("30 6 * * *", "Europe/Oslo", 0)
	if err != nil {
		t.Fatal(err)
	}
	interval, err := timing.Read("", "", 5*time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 3, 1, 5, 45, 0, 0, time.UTC)
	for _, pair := range [][2]timing.Schedule{{clock, interval}, {interval, clock}, {interval, interval}, {clock, clock}} {
		if lost, doubled := impact.AcrossZones(pair[0], pair[1], now); lost != 0 || doubled != 0 {
			t.Errorf("%v to %v: %d lost, %d doubled", pair[0], pair[1], lost, doubled)
		}
	}
}
