package access_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"rudmar/core/access"
)

func TestCheckPattern(t *testing.T) {
	for _, good := range []string{"tables/stations", "objects/photos/raw/*", "*", "tables/*", "*/stations"} {
		err := access.CheckPattern(good)
		if (err == nil) == (good == "*/stations") {
			t.Errorf("%q: %v", good, err)
		}
	}
	for _, bad := range []string{"", "tables", "tables/", "/x", "tables/a*b", "tables/a b"} {
		if access.CheckPattern(bad) == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

func TestAllows(t *testing.T) {
	statements := []access.Statement{
		{Verbs: []string{"read", "query"}, Resource: "tables/stations"},
		{Verbs: []string{"*"}, Resource: "queues/*"},
		{Verbs: []string{"read"}, Resource: "objects/photos/raw/*"},
	}
	tests := []struct {
		verb, resource string
		by             int
	}{
		{"read", "tables/stations", 0}, {"write", "tables/stations", -1}, {"read", "tables/stations2", -1},
		{"send", "queues/alerts", 1}, {"read", "objects/photos/raw/a.jpg", 2}, {"read", "objects/photos/raw", -1},
		{"read", "objects/photos/cooked/a.jpg", -1},
	}
	for _, tt := range tests {
		if by := access.Deciding(statements, tt.verb, tt.resource); by != tt.by ||
			access.Allows(statements, tt.verb, tt.resource) != (tt.by >= 0) {
			t.Errorf("%s %s is decided by %d, want %d", tt.verb, tt.resource, by, tt.by)
		}
	}
}

func TestGained(t *testing.T) {
	s := func(resource string, verbs ...string) access.Statement {
		return access.Statement{Verbs: verbs, Resource: resource}
	}
	tests := []struct {
		name          string
		before, after []access.Statement
		want          string
	}{
		{"nothing new", []access.Statement{s("tables/a", "read", "write")},
			[]access.Statement{s("tables/a", "write", "read")}, "[]"},
		{"one verb", []access.Statement{s("tables/a", "read")}, []access.Statement{s("tables/a", "read", "write")},
			"[{[write] tables/a []}]"},
		{"split in two", []access.Statement{s("tables/a", "read", "write")},
			[]access.Statement{s("tables/a", "read"), s("tables/a", "write")}, "[]"},
		{"covered by a wider one", []access.Statement{s("tables/*", "read")},
			[]access.Statement{s("tables/a", "read")}, "[]"},
		{"two merged into a wider one", []access.Statement{s("tables/a", "read"), s("tables/b", "read")},
			[]access.Statement{s("tables/*", "read")}, "[{[read] tables/* [{[read] tables/a} {[read] tables/b}]}]"},
		{"every verb", []access.Statement{s("tables/a", "*")}, []access.Statement{s("tables/a", "read", "write")}, "[]"},
		{"from nothing", nil, []access.Statement{s("b/x", "read"), s("a/x", "read")}, "[{[read] a/x []} {[read] b/x []}]"},
	}
	for _, tt := range tests {
		if got := fmt.Sprint(access.Gained(tt.before, tt.after)); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
}

// Gained is exact, by trying every verb on every resource that the patterns distinguish: 100,000 random grants
// before and after.
func TestGainedByBruteForce(t *testing.T) {
	dice := rand.New(rand.NewPCG(5, 6))
	patterns := []string{"k/a", "k/ab", "k/*", "k/a*", "k/ab*", "k/b", "l/a", "l/*", "*"}
	verbs := []string{"read", "write", "*"}
	var tries []string
	for _, p := range patterns {
		tries = append(tries, strings.TrimSuffix(p, "*"), strings.TrimSuffix(p, "*")+"§") // no pattern contains §
	}
	random := func() []access.Statement {
		var out []access.Statement
		for range dice.IntN(4) {
			from := dice.IntN(len(verbs))
			out = append(out, access.Statement{Verbs: verbs[from : from+1+dice.IntN(len(verbs)-from)],
				Resource: patterns[dice.IntN(len(patterns))]})
		}
		return out
	}
	for range 100_000 {
		before, after := random(), random()
		gained := access.Gained(before, after)
		for _, verb := range []string{"read", "write", "delete"} { // delete is named by none
			for _, resource := range tries {
				isNew := access.Allows(after, verb, resource) && !access.Allows(before, verb, resource)
				said := slices.ContainsFunc(gained, func(g access.Gain) bool { return g.Allows(verb, resource) })
				if isNew != said {
					t.Fatalf("%v → %v: %s %s is new: %v, and said to be: %v, by %v", before, after, verb, resource, isNew, said, gained)
				}
			}
		}
	}
}

func TestWildcards(t *testing.T) {
	for _, tt := range []struct {
		gain access.Gain
		want bool
	}{
		{access.Gain{Verbs: []string{"read"}, Resource: "tables/a"}, false},
		{access.Gain{Verbs: []string{"read"}, Resource: "tables/*"}, true},
		{access.Gain{Verbs: []string{"read", "*"}, Resource: "tables/a"}, true},
	} {
		if tt.gain.Wildcard() != tt.want {
			t.Errorf("%v", tt.gain)
		}
	}
}
