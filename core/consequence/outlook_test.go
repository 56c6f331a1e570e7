package consequence_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"rudmar/core/consequence"
	"rudmar/core/figures"
	"rudmar/core/resource"
	"rudmar/core/timing"
)

// Fires that a change of zone leaves out or makes twice are just those that a clock
// on the wall shows never, or two times, going through the minutes one by one.
func TestAcrossZonesByBruteForce(t *testing.T) {
	zones := []string{"UTC", "Europe/Oslo", "America/New_York", "Asia/Tokyo", "Pacific/Auckland"}
	dice := rand.New(rand.NewPCG(7, 7))
	some := [2]int{}
	for range 300 {
		cron := fmt.Sprintf("%d %d * * *", dice.IntN(60), dice.IntN(24))
		a, b := zones[dice.IntN(len(zones))], zones[dice.IntN(len(zones))]
		now := time.Date(2026, 1+time.Month(dice.IntN(12)), 1+dice.IntN(28), dice.IntN(24), dice.IntN(60), 30, 0, time.UTC)
		was, err := timing.Read(cron, a, 0)
		if err != nil {
			t.Fatal(err)
		}
		is, _ := timing.Read(cron, b, 0)
		parsed := was.Cron
		fires := func(zone *time.Location, from, to time.Time) map[string]int {
			out := map[string]int{}
			for at := from.Truncate(time.Minute); at.Before(to); at = at.Add(time.Minute) {
				s := timing.Schedule{Cron: parsed, Zone: zone}
				if next, ok := s.Next(at.Add(-time.Second)); ok && next.Equal(at) && at.After(from) && !at.After(to) {
					out[at.In(zone).Format("2006-01-02 15:04")]++
				}
			}
			return out
		}
		span := 30 * time.Hour
		ran := fires(was.Zone, now.Add(-span), now)
		will := fires(is.Zone, now, now.Add(span))
		wouldHave := fires(was.Zone, now, now.Add(span))
		couldHave := fires(is.Zone, now.Add(-span), now)
		lost, doubled := 0, 0
		for at := range wouldHave {
			if couldHave[at] > 0 && will[at] == 0 {
				lost++
			}
		}
		for at := range ran {
			if will[at] > 0 && wouldHave[at] == 0 {
				doubled++
			}
		}
		gotLost, gotDoubled := consequence.AcrossZones(was, is, now)
		if gotLost != lost || gotDoubled != doubled {
			t.Fatalf("%s from %s to %s at %v: %d lost and %d doubled, want %d and %d", cron, a, b, now, gotLost, gotDoubled,
				lost, doubled)
		}
		some[0], some[1] = some[0]+lost, some[1]+doubled
	}
	if some[0] == 0 || some[1] == 0 {
		t.Errorf("no case was tried: %v", some)
	}
}

// A run that takes longer than two fires are apart overlaps.
func TestOverlaps(t *testing.T) {
	every := func(ms float64) []r {
		return []r{{Address: "schedule/warn/sweep", Kind: "schedule", Function: "warn",
			Attributes: map[string]any{"every": ms, "enabled": true}}}
	}
	seen := consequence.Seen{Now: time.Unix(1_700_000_000, 0), Over: time.Hour, Here: map[string]figures.Sum{
		"warn": {Calls: 10, MaxMs: 90_000, Durations: figures.Histogram{figures.Bucket(80_000): 10}}}}
	touched := map[string]resource.Change{"schedule/warn/sweep": resource.Update}
	for ms, overlaps := range map[float64]bool{60_000: true, 120_000: false} {
		o := consequence.Foresee(every(300_000), every(ms), touched, consequence.Consequence{}, seen)
		s := o.Schedules[0]
		if s.Overlaps != overlaps || s.Before != 288 || s.After != 86_400_000/ms || len(s.Next) != 3 {
			t.Errorf("every %v ms: %+v", ms, s)
		}
	}
	off := every(60_000)
	off[0].Attributes["enabled"] = false
	if s := consequence.Foresee(off, every(60_000), touched, consequence.Consequence{}, seen).Schedules[0]; s.Before != 0 {
		t.Errorf("one that was off fired: %+v", s)
	}
}

// A limit is told where it changes, or where what was seen comes near to it.
func TestTight(t *testing.T) {
	of := func(memory float64) []r {
		return []r{{Address: "function/warn", Kind: "function", Function: "warn", Attributes: map[string]any{"memory": memory}}}
	}
	touched := map[string]resource.Change{"function/warn": resource.Update}
	for _, tt := range []struct {
		was, is       float64
		here, earlier int64
		want          string
	}{
		{100, 100, 50, 0, "[]"},
		{100, 100, 95, 0, "[{warn memory 100 95  5 false}]"},
		{100, 200, 50, 0, "[{warn memory 200 50  5 false}]"},
		{200, 100, 0, 150, "[{warn memory 100 150 trial 6 true}]"},
		{200, 100, 0, 0, "[]"},
		{0, 100, 0, 150, "[{warn memory 100 150 trial 6 true}]"},
	} {
		before := of(tt.was)
		if tt.was == 0 {
			before = nil
		}
		seen := consequence.Seen{Here: map[string]figures.Sum{"warn": {Calls: 5, MemoryPeak: tt.here}}, Before: "trial",
			Earlier: map[string]figures.Sum{"warn": {Calls: 6, MemoryPeak: tt.earlier}}}
		o := consequence.Foresee(before, of(tt.is), touched, consequence.Consequence{}, seen)
		if got := fmt.Sprint(o.Tight); got != tt.want {
			t.Errorf("%+v: %s", tt, got)
		}
	}
}

// What functions newly bring about through others is just what can be reached by
// going from queue to queue, over random services.
func TestThroughByBruteForce(t *testing.T) {
	dice := rand.New(rand.NewPCG(9, 9))
	names := []string{"a", "b", "c", "d"}
	random := func() []r {
		var out []r
		for _, fn := range names {
			if dice.IntN(2) == 0 {
				out = append(out, r{Address: "subscription/" + fn + "/in", Kind: "subscription", Function: fn,
					Attributes: map[string]any{"source": "queue/q" + names[dice.IntN(4)], "enabled": dice.IntN(6) > 0}})
			}
			if dice.IntN(2) == 0 {
				out = append(out, grant(fn, "queues/q"+names[dice.IntN(4)], "send"))
			}
			if dice.IntN(3) == 0 {
				out = append(out, grant(fn, "tables/"+names[dice.IntN(2)], "read"))
			}
		}
		return out
	}
	// reaches gives what a function may, by itself or by what it sets off.
	reaches := func(side []r, fn string) (own, through map[string]bool) {
		can := func(fn string) map[string]bool {
			out := map[string]bool{}
			for _, x := range side {
				if x.Kind == "grant" && x.Function == fn {
					out[fmt.Sprint(x.Attributes["verbs"].([]any)[0], " ", x.Attributes["resource"])] = true
				}
			}
			return out
		}
		through, seen := map[string]bool{}, map[string]bool{fn: true}
		for todo := []string{fn}; len(todo) > 0; todo = todo[1:] {
			for _, x := range side {
				if x.Kind != "subscription" || x.Attributes["enabled"] == false || seen[x.Function] {
					continue
				}
				if can(todo[0])["send queues/"+x.Attributes["source"].(string)[len("queue/"):]] {
					seen[x.Function] = true
					todo = append(todo, x.Function)
					for what := range can(x.Function) {
						through[what] = true
					}
				}
			}
		}
		return can(fn), through
	}
	found := 0
	for range 2000 {
		before, after := random(), random()
		told := map[string]map[string]bool{}
		for _, x := range consequence.Weigh(before, after, nil).Through {
			if told[x.Function] == nil {
				told[x.Function] = map[string]bool{}
			}
			for _, what := range x.May {
				told[x.Function][what] = true
			}
		}
		for _, fn := range names {
			_, was := reaches(before, fn)
			own, is := reaches(after, fn)
			for what := range is {
				if !was[what] && !own[what] {
					found++
					if !told[fn][what] {
						t.Fatalf("%s newly brings about %s, which is not told: %v\nbefore %v\nafter %v", fn, what, told, before, after)
					}
				}
			}
			for what := range told[fn] {
				if !is[what] || own[what] {
					t.Fatalf("%s is told to bring about %s\nbefore %v\nafter %v", fn, what, before, after)
				}
			}
		}
	}
	if found == 0 {
		t.Error("nothing was tried")
	}
}

// A request that another function answers is told: where a nearer route shadows the
// one that answered, and where a route changes hands.
func TestMoved(t *testing.T) {
	for _, tt := range []struct {
		name          string
		before, after []string
		want          string
	}{
		{"shadowed", []string{"a/x GET /s/{id} members"}, []string{"a/x GET /s/{id} members", "b/y GET /s/hill members"},
			"[{GET /s/hill a/x b/y true}]"},
		{"handed over", []string{"a/x GET /s/{id} members"}, []string{"b/y GET /s/{id} members"}, "[{GET /s/x a/x b/y false}]"},
		{"within one function", []string{"a/x ANY /s members"}, []string{"a/x ANY /s members", "a/y GET /s members"}, "[]"},
		{"to nobody", []string{"a/x GET /s members"}, nil, "[]"},
	} {
		if got := fmt.Sprint(consequence.Weigh(all(tt.before...), all(tt.after...), nil).Moved); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
	closed := consequence.Weigh(all("a/x GET /s members"), all("a/x GET /s growers"), nil).Closed
	if got := fmt.Sprint(closed); got != "[{a a/x GET /s GET /s members growers}]" {
		t.Errorf("closed: %s", got)
	}
}
