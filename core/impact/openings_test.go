package impact_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"rudmar/core/impact"
	routes "rudmar/core/route"
)

// opening parses a trigger such as "warn/ask GET /frost growers,vets", with "off" at the end for a disabled
// one.
func opening(text string) []r {
	f := strings.Fields(text)
	fn, _, _ := strings.Cut(f[0], "/")
	var to []any
	for _, who := range strings.Split(f[3], ",") {
		to = append(to, who)
	}
	return []r{
		{Address: "opening/" + f[0], Kind: "opening", Function: fn, Attributes: map[string]any{"to": to}},
		{Address: "route/" + f[0], Kind: "route", Function: fn,
			Attributes: map[string]any{"method": f[1], "path": f[2], "enabled": len(f) < 5}},
	}
}

func all(texts ...string) []r {
	var out []r
	for _, t := range texts {
		out = append(out, opening(t)...)
	}
	return out
}

// TestWiderAccess tests every way in which a public route has slipped past a rule.
func TestWiderAccess(t *testing.T) {
	for _, tt := range []struct {
		name          string
		before, after []string
		want          string
	}{
		{"moved", []string{"a/x GET /health anyone"}, []string{"a/x GET /admin anyone"}, "a/x GET /admin by nobody public"},
		{"widened", []string{"a/x GET /health anyone"}, []string{"a/x ANY /{all...} anyone"},
			"a/x GET / by nobody public; ..."},
		{"switched on", []string{"a/x GET /health anyone off"}, []string{"a/x GET /health anyone"},
			"a/x GET /health by nobody public"},
		{"off", nil, []string{"a/x GET /health anyone off"}, ""},
		{"switched off", []string{"a/x GET /health anyone"}, []string{"a/x GET /health anyone off"}, ""},
		{"renamed", []string{"a/x GET /health anyone"}, []string{"b/y GET /health anyone"}, ""},
		{"a parameter by another name", []string{"a/x GET /s/{id} anyone"}, []string{"a/x GET /s/{key} anyone"}, ""},
		{"one by two", []string{"a/x ANY /s authenticated"}, []string{"a/x GET /s authenticated", "a/y ANY /s authenticated"}, ""},
		{"what shadowed it is gone", []string{"a/x ANY /{all...} anyone", "a/y GET /secret growers"},
			[]string{"a/x ANY /{all...} anyone"}, "a/x GET /secret by growers public"},
		{"shadowed by a wider one", []string{"a/x GET /s/{id} growers"},
			[]string{"a/x GET /s/{id} growers", "a/y GET /s/hill anyone"}, "a/y GET /s/hill by growers public"},
		{"narrowed", []string{"a/x ANY /{all...} anyone"}, []string{"a/x GET /s anyone"}, ""},
		{"for a group what authenticated had", []string{"a/x GET /s authenticated"}, []string{"a/x GET /s growers"}, ""},
		{"escaped", []string{"a/x GET /a%20b anyone"}, []string{"a/x GET /a%20c anyone"}, "a/x GET /a%20c by nobody public"},
	} {
		var got []string
		for _, o := range impact.Assess(all(tt.before...), all(tt.after...), nil).Opened {
			before := o.Before
			if before == "" {
				before = "nobody"
			}
			text := fmt.Sprintf("%s %s by %s", o.Trigger, o.Request, before)
			if o.Public {
				text += " public"
			}
			got = append(got, text)
		}
		if tt.name == "widened" {
			if len(got) != 1 || !strings.HasSuffix(got[0], "by nobody public") {
				t.Errorf("%s: %v", tt.name, got)
			}
			continue
		}
		if strings.Join(got, "; ") != tt.want {
			t.Errorf("%s: %v, want %s", tt.name, got, tt.want)
		}
	}
}

// TestWiderAccessByBruteForce makes every request up to four segments over all the words of random routes, by
// every method and for every caller, before and after, and expects exactly the routes with new callers.
func TestWiderAccessByBruteForce(t *testing.T) {
	paths := everyPath()
	for seed := range uint64(70) {
		dice := rand.New(rand.NewPCG(seed, 5))
		before, after := randomSides(dice)
		want := map[string]bool{} // trigger → public
		for _, path := range paths {
			for _, method := range []string{"GET", "POST", "PUT", "HEAD"} {
				for _, who := range []string{"anyone", "authenticated", "growers", "vets"} {
					trigger, in := enters(after, method, path, who)
					if _, was := enters(before, method, path, who); in && !was {
						want[trigger] = want[trigger] || who == "anyone"
					}
				}
			}
		}
		got := map[string]bool{}
		for _, o := range impact.Assess(all(before...), all(after...), nil).Opened {
			got[o.Trigger] = o.Public
			method, path, _ := strings.Cut(o.Request, " ")
			who := "vets"
			for _, w := range []string{"anyone", "authenticated", "growers"} {
				if _, was := enters(before, method, path, w); !was {
					if _, in := enters(after, method, path, w); in {
						who = w
					}
				}
			}
			if trigger, in := enters(after, method, path, who); !in || trigger != o.Trigger {
				t.Fatalf("seed %d: %s does not enter by %s: %v → %v", seed, o.Request, o.Trigger, before, after)
			}
		}
		if fmt.Sprint(got) != fmt.Sprint(want) {
			t.Fatalf("seed %d: %v, want %v\nbefore %v\nafter  %v", seed, got, want, before, after)
		}
	}
}

// everyPath lists the paths up to four segments over all words of random routes.
func everyPath() []string {
	var paths []string
	var grow func(prefix string, depth int)
	grow = func(prefix string, depth int) {
		paths = append(paths, prefix)
		if depth == 4 {
			return
		}
		for _, p := range []string{"a", "b", "%20", "zz", ""} {
			grow(prefix+"/"+p, depth+1)
		}
	}
	grow("", 0)
	return paths
}

// randomSides generates routes before and after; often existing ones stay, and more are added.
func randomSides(dice *rand.Rand) (before, after []string) {
	words := []string{"a", "b", "%20", "{p}", "{q...}"}
	to := []string{"anyone", "authenticated", "growers", "vets", "growers,vets"}
	side := func() []string {
		var out []string
		for i := range dice.IntN(4) {
			path := ""
			for range 1 + dice.IntN(3) {
				word := words[dice.IntN(len(words))]
				if strings.Contains(path, "{p}") && word == "{p}" {
					word = "a"
				}
				if path += "/" + word; word == "{q...}" {
					break
				}
			}
			text := fmt.Sprintf("f/t%d %s %s %s", i, []string{"GET", "POST", "ANY", "HEAD"}[dice.IntN(4)],
				path, to[dice.IntN(len(to))])
			if dice.IntN(5) == 0 {
				text += " off"
			}
			out = append(out, text)
		}
		return out
	}
	before, after = side(), side()
	if dice.IntN(3) == 0 {
		after = append(slices.Clone(before), after...)
		for i := range after {
			f := strings.Fields(after[i])
			f[0] = fmt.Sprintf("f/t%d", i)
			after[i] = strings.Join(f, " ")
		}
	}
	return before, after
}

// TestReroutedByBruteForce makes every request, before and after, and expects exactly the rerouted requests, in
// order, each with an example; and shadowing if the former route still exists.
func TestReroutedByBruteForce(t *testing.T) {
	paths := everyPath()
	told := 0
	for seed := range uint64(60) {
		dice := rand.New(rand.NewPCG(seed, 8))
		before, after := randomSides(dice)
		for _, side := range [][]string{before, after} { // each route by a function of its own, or of two
			for i := range side {
				fn := string(rune('f' + dice.IntN(3)))
				side[i] = strings.Replace(side[i], "f/", fn+"/", 1)
			}
		}
		still := map[string]string{} // trigger → its route
		for _, text := range after {
			if f := strings.Fields(text); len(f) < 5 {
				still[f[0]] = f[1] + " " + f[2]
			}
		}
		route := map[string]string{}
		for _, text := range before {
			f := strings.Fields(text)
			route[f[0]] = f[1] + " " + f[2]
		}
		hands := func(method, path string) string {
			was, _ := enters(before, method, path, "vets")
			now, _ := enters(after, method, path, "vets")
			if was == "" || now == "" || was[0] == now[0] {
				return ""
			}
			return fmt.Sprint(was, " ", now, " ", still[was] == route[was])
		}
		seen, want := map[string]bool{}, []string{}
		for _, path := range paths {
			for _, method := range []string{"GET", "POST", "PUT", "HEAD"} {
				if moved := hands(method, path); moved != "" && !seen[moved] {
					seen[moved], want = true, append(want, moved)
				}
			}
		}
		slices.Sort(want)
		got := []string{}
		for _, m := range impact.Assess(all(before...), all(after...), nil).Moved {
			one := fmt.Sprint(m.Was, " ", m.Now, " ", m.Shadowed)
			method, path, _ := strings.Cut(m.Request, " ")
			if hands(method, path) != one {
				t.Fatalf("seed %d: %s does not go from %s: %v → %v", seed, m.Request, one, before, after)
			}
			got = append(got, one)
		}
		if told += len(got); fmt.Sprint(got) != fmt.Sprint(want) {
			t.Fatalf("seed %d: %v, want %v\nbefore %v\nafter  %v", seed, got, want, before, after)
		}
	}
	if told < 20 {
		t.Errorf("only %d requests changed hands", told)
	}
}

// enters returns the trigger that matches a request, and whether it admits the caller.
func enters(side []string, method, path, who string) (string, bool) {
	var list []routes.Route
	var texts [][]string
	for _, text := range side {
		f := strings.Fields(text)
		parsed, err := routes.Parse(f[1] + " " + f[2])
		if err != nil {
			panic(text)
		}
		if len(f) < 5 {
			list, texts = append(list, parsed), append(texts, f)
		}
	}
	i, _ := routes.Winner(list, method, path)
	if i < 0 {
		return "", false
	}
	to := strings.Split(texts[i][3], ",")
	in := slices.Contains(to, "anyone") || who != "anyone" && (slices.Contains(to, "authenticated") || slices.Contains(to, who))
	return texts[i][0], in
}

// BenchmarkOpenings shows that the search does not grow with the square of the unchanged routes.
func BenchmarkOpenings(b *testing.B) {
	side := func(n int, last string) []r {
		var out []r
		for i := range n {
			out = append(out, opening(fmt.Sprintf("f%d/ask GET /things/%d/{part} authenticated", i, i))...)
		}
		return append(out, opening("last/ask "+last)...)
	}
	for _, n := range []int{100, 1000} {
		before, after := side(n, "GET /last authenticated"), side(n, "GET /last anyone")
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				if c := impact.Assess(before, after, nil); len(c.Opened) != 1 {
					b.Fatal(c.Opened)
				}
			}
		})
	}
}
