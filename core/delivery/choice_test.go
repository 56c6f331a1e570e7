package delivery_test

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
)

func having(functions ...string) *manifest.Service {
	s := &manifest.Service{Name: "frostline"}
	for _, text := range functions {
		name, was, _ := strings.Cut(text, "<")
		s.Functions = append(s.Functions, &manifest.Function{Name: name, RenamedFrom: was})
	}
	return s
}

func TestChoose(t *testing.T) {
	there := map[string]int{"warn": 3, "grade": 2, "gone": 3, "old": 3}
	own := having("fresh", "grade", "new<old", "warn")
	differing := []string{"fresh", "gone", "new", "old", "warn"}
	for _, tt := range []struct {
		chosen []string
		want   string // "" for no choice, "-" for an error
	}{
		{[]string{"warn"}, "[warn] fresh:0 gone:3 grade:2 new:0 old:3"},
		{[]string{"fresh", "warn"}, "[fresh warn] gone:3 grade:2 new:0 old:3"},
		{[]string{"new"}, "[new old] fresh:0 gone:3 grade:2 warn:3"}, // a rename is selected as a whole
		{[]string{"old"}, "[new old] fresh:0 gone:3 grade:2 warn:3"},
		{[]string{"gone"}, "[gone] fresh:0 grade:2 new:0 old:3 warn:3"},
		{[]string{"warn", "new", "fresh", "gone"}, ""},
		{[]string{"grade"}, "-"}, // it is unchanged
		{[]string{"warn", "moon"}, "-"},
		{nil, "-"},
	} {
		c, err := delivery.Choose(own, differing, there, tt.chosen)
		got := ""
		switch {
		case errors.Is(err, delivery.ErrSelection):
			got = "-"
		case err != nil:
			t.Fatal(err)
		case c != nil:
			got = fmt.Sprint(c.Functions)
			for _, name := range slices.Sorted(maps.Keys(c.Kept)) {
				got += fmt.Sprintf(" %s:%d", name, c.Kept[name])
			}
		}
		if got != tt.want {
			t.Errorf("%v: %s, not %s", tt.chosen, got, tt.want)
		}
	}
}

// With any selection, each function is at the new version or unchanged, and later changes are not reverted.
func TestUnselectedFunctionsAreKept(t *testing.T) {
	random := rand.New(rand.NewPCG(14, 7))
	for range 3000 {
		names := []string{"a", "b", "c", "d", "e", "f"}
		there, now := map[string]int{}, map[string]int{}
		var has []string
		for _, name := range names {
			if random.IntN(3) > 0 {
				there[name] = 1 + random.IntN(4)
				now[name] = there[name] + random.IntN(2)
			}
			if random.IntN(4) > 0 {
				has = append(has, name)
			}
		}
		chosen := []string{names[random.IntN(6)], names[random.IntN(6)]}
		c, err := delivery.Choose(having(has...), names, there, chosen)
		if err != nil || c == nil {
			t.Fatal(err, c)
		}
		c = c.Beside(having(has...), now)
		for _, name := range names {
			want := now[name]
			if slices.Contains(chosen, name) {
				want = 9
			}
			// One that neither has is at whatever version.
			if got := c.Version(name, 9); got != want && (want > 0 || slices.Contains(has, name)) {
				t.Fatalf("%s is at %d, not %d: %+v", name, got, want, c)
			}
			if c.Enters(name) != slices.Contains(chosen, name) {
				t.Fatalf("%s enters: %v", name, c.Enters(name))
			}
		}
	}
	var all *delivery.Choice
	if !all.Enters("a") || all.Version("a", 4) != 4 {
		t.Error("without a choice all enter")
	}
}

func TestWhoCanSelectFunctions(t *testing.T) {
	allows := func(on string, choice bool) *manifest.Stage {
		return &manifest.Stage{Name: "live", When: on, AllowPartial: choice}
	}
	for _, tt := range []struct {
		what string
		of   delivery.Entry
		want bool
	}{
		{"both allow it", delivery.Entry{Own: allows("request", true), Standing: allows("request", true)}, true},
		{"the first version", delivery.Entry{Own: allows("request", true)}, true},
		{"only its own rules", delivery.Entry{Own: allows("request", true), Standing: allows("request", false)}, false},
		{"only those that stand", delivery.Entry{Own: allows("request", false), Standing: allows("request", true)}, false},
		{"nobody asks", delivery.Entry{Own: allows("ready", true), Standing: allows("request", true)}, false},
		{"it goes", delivery.Entry{Standing: allows("request", true)}, false},
		{"no rules", delivery.Entry{}, false},
	} {
		if got := tt.of.AllowsPartial(); got != tt.want {
			t.Errorf("%s: %v", tt.what, got)
		}
	}
}

// A part of a version is not the version: the next stage waits for the rest.
func TestPartialDeliveryDoesNotSatisfyGates(t *testing.T) {
	own, f := stage(), fulfilled()
	gate := func() delivery.Gate {
		for _, g := range delivery.Gates(t.Context(), delivery.Entry{Own: own}, f) {
			if g.Kind == delivery.BeforeGate {
				return g
			}
		}
		return delivery.Gate{}
	}
	if g := gate(); g.State != delivery.GatePassed {
		t.Fatalf("%+v", g)
	}
	at := f.Earlier[own.After]
	at.Part = []string{"warn"}
	f.Earlier[own.After] = at
	if g := gate(); g.State != delivery.GateWaiting || !strings.Contains(g.Reason, "not only warn") {
		t.Errorf("%+v", g)
	}
}

// Less restrictive rules are reported as weaker.
func TestSelectionAndTestingAreRules(t *testing.T) {
	was := stage()
	for _, tt := range []struct {
		what    string
		before  func(s *manifest.Stage)
		after   func(s *manifest.Stage)
		rule    string
		loosens bool
	}{
		{"a choice comes", func(*manifest.Stage) {}, func(s *manifest.Stage) { s.AllowPartial = true }, "enter", true},
		{"a choice goes", func(s *manifest.Stage) { s.AllowPartial = true }, func(*manifest.Stage) {}, "enter", false},
		{"proof between goes", func(s *manifest.Stage) { s.TargetOrder = manifest.TestEach }, func(*manifest.Stage) {}, "targets", true},
		{"proof between comes", func(*manifest.Stage) {}, func(s *manifest.Stage) { s.TargetOrder = manifest.TestEach }, "targets", false},
	} {
		before, after := *was, *was
		tt.before(&before)
		tt.after(&after)
		changes := delivery.Entry{Own: &after, Standing: &before}.RuleChanges()
		if len(changes) != 1 || changes[0].Rule != tt.rule || changes[0].Loosens != tt.loosens {
			t.Errorf("%s: %+v", tt.what, changes)
		}
	}
}
