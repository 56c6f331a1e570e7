package consequence_test

import (
	"fmt"
	"testing"

	"rudmar/core/consequence"
	"rudmar/core/resource"
)

type r = consequence.Resource

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
	c := consequence.Weigh(before, after, nil)
	if got, want := fmt.Sprint(c.Gained), "[{new [*] tables/a [] true <nil>} {warn [read] tables/* [read tables/a read tables/b] true <nil>}]"; got != want {
		t.Errorf("gained %s, want %s", got, want)
	}
	if got, want := fmt.Sprint(c.Lost), "[{gone [write] tables/x [] false <nil>}]"; got != want {
		t.Errorf("lost %s, want %s", got, want)
	}
}

func TestOpened(t *testing.T) {
	tests := []struct {
		name          string
		before, after []any
		want          string
	}{
		{"new and public", nil, []any{"anyone"}, "GET /frost: →anyone public=true"},
		{"new for a group", nil, []any{"growers"}, "GET /frost: →growers public=false"},
		{"members to anyone", []any{"members"}, []any{"anyone"}, "GET /frost: members→anyone public=true"},
		{"one more group", []any{"growers"}, []any{"growers", "council"},
			"GET /frost: growers→growers, council public=false"},
		{"group to members", []any{"growers"}, []any{"members"}, "GET /frost: growers→members public=false"},
		{"members to a group", []any{"members"}, []any{"growers"}, ""},
		{"anyone to members", []any{"anyone"}, []any{"members"}, ""},
		{"the same", []any{"members"}, []any{"members"}, ""},
	}
	for _, tt := range tests {
		var before []r
		if tt.before != nil {
			before = route("warn", "/frost", tt.before...)
		}
		got := ""
		for _, o := range consequence.Weigh(before, route("warn", "/frost", tt.after...), nil).Opened {
			got += fmt.Sprintf("%s: %s→%s public=%v", o.Route, o.Before, o.After, o.Public)
		}
		if got != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, got, tt.want)
		}
	}
}

func TestColdAndLost(t *testing.T) {
	c := consequence.Weigh(nil, nil,
		map[string]resource.Change{"pointer/b": "update", "pointer/a": "create", "pointer/gone": "delete",
			"logs/gone": "delete", "revision/gone": "delete", "function/c": "update", "revision/c": "create",
			"logs/c": "create", "pointer/c": "replace"})
	if got := fmt.Sprint(c.Cold, c.Removed); got != "[a b c] [all kept revisions of gone all log lines of gone]" {
		t.Error(got)
	}
}
