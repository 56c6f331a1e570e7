package impact_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"rudmar/core/impact"
	"rudmar/core/metrics"
	"rudmar/core/resource"
	"rudmar/core/timing"
)

// Times that a change of zone skips or repeats are exactly those that a wall clock shows never, or twice,
// minute by minute.
func TestZonesByBruteForce(t *testing.T) {
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
		gotLost, gotDoubled := impact.AcrossZones(was, is, now)
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

// A run that takes longer than the interval overlaps.
func TestOverlaps(t *testing.T) {
	every := func(ms float64) []r {
		return []r{{Address: "schedule/warn/sweep", Kind: "schedule", Function: "warn",
			Attributes: map[string]any{"every": ms, "enabled": true}}}
	}
	seen := impact.Figures{Now: time.Unix(1_700_000_000, 0), Over: time.Hour, Here: map[string]metrics.Sum{
		"warn": {Invocations: 10, MaxMs: 90_000, Durations: metrics.Histogram{metrics.Bucket(80_000): 10}}}}
	touched := map[string]resource.Change{"schedule/warn/sweep": resource.Update}
	for ms, overlaps := range map[float64]bool{60_000: true, 120_000: false} {
		o := impact.Forecast(every(300_000), every(ms), touched, impact.Impact{}, seen)
		s := o.Schedules[0]
		if s.Overlaps != overlaps || s.Before != 288 || s.After != 86_400_000/ms || len(s.Next) != 3 {
			t.Errorf("every %v ms: %+v", ms, s)
		}
	}
	off := every(60_000)
	off[0].Attributes["enabled"] = false
	if s := impact.Forecast(off, every(60_000), touched, impact.Impact{}, seen).Schedules[0]; s.Before != 0 {
		t.Errorf("one that was off fired: %+v", s)
	}
}

// A limit is reported if it changes, or if observations come near it.
func TestTightMemory(t *testing.T) {
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
		{200, 100, 1, 0, "[{warn memory 100 1  5 false}]"},
		{100, 100, 100, 0, "[{warn memory 100 100  5 false}]"},
		{100, 100, 101, 0, "[{warn memory 100 101  5 true}]"},
		{100, 100, 95, 95, "[{warn memory 100 95  5 false}]"},
		{0, 100, 0, 150, "[{warn memory 100 150 trial 6 true}]"},
	} {
		before := of(tt.was)
		if tt.was == 0 {
			before = nil
		}
		seen := impact.Figures{Here: map[string]metrics.Sum{"warn": {Invocations: 5, MemoryPeak: tt.here}}, Before: "trial",
			Earlier: map[string]metrics.Sum{"warn": {Invocations: 6, MemoryPeak: tt.earlier}}}
		o := impact.Forecast(before, of(tt.is), touched, impact.Impact{}, seen)
		if got := fmt.Sprint(o.Tight); got != tt.want {
			t.Errorf("%+v: %s", tt, got)
		}
	}
}

// A timeout is held against the 99th percentile of durations.
func TestTightTimeouts(t *testing.T) {
	of := []r{{Address: "function/warn", Kind: "function", Function: "warn", Attributes: map[string]any{"timeout": 1000.0}}}
	slow := metrics.Sum{Invocations: 10, MemoryPeak: 5, MaxMs: 2000, Durations: metrics.Histogram{metrics.Bucket(2000): 10}}
	o := impact.Forecast(of, of, map[string]resource.Change{"pointer/warn": resource.Update}, impact.Impact{},
		impact.Figures{Here: map[string]metrics.Sum{"warn": slow}})
	if len(o.Tight) != 1 || o.Tight[0].What != "timeout" || !o.Tight[0].Under || o.Tight[0].Seen < 1800 || o.Tight[0].Invocations != 10 {
		t.Errorf("%+v", o.Tight)
	}
}

// Costs are for thirty days, from the stage's figures, or else from those of the stage before, which is stated.
func TestCosts(t *testing.T) {
	of := func(memory float64) []r {
		if memory == 0 {
			return nil
		}
		return []r{{Address: "function/warn", Kind: "function", Function: "warn",
			Attributes: map[string]any{"memory": memory * (1 << 30)}}}
	}
	calls := metrics.Sum{Invocations: 1000, TotalMs: 500_000}
	rates := metrics.Rates{Currency: "EUR", PerMillionCalls: "0.20", PerGiBSecond: "0.00001"}
	const how = "30000 invocations at 0.20 per million, and "
	for _, tt := range []struct {
		name          string
		was, is       float64
		here, earlier metrics.Sum
		rates         metrics.Rates
		want          string
	}{
		{"more memory", 1, 2, calls, metrics.Sum{}, rates,
			"[{warn 0.1560 0.3060 EUR " + how + "30000.000 GiB-seconds at 0.00001}]"},
		{"new", 0, 1, calls, metrics.Sum{}, rates, "[{warn  0.1560 EUR " + how + "15000.000 GiB-seconds at 0.00001}]"},
		{"gone", 1, 0, calls, metrics.Sum{}, rates, "[{warn 0.1560  EUR " + how + "15000.000 GiB-seconds at 0.00001}]"},
		{"as in the stage before", 0, 1, metrics.Sum{}, calls, rates,
			"[{warn  0.1560 EUR " + how + "15000.000 GiB-seconds at 0.00001, if invoked as often as in trial}]"},
		{"called once", 1, 2, metrics.Sum{Invocations: 1, TotalMs: 1_000_000}, metrics.Sum{}, rates,
			"[{warn 0.3000 0.6000 EUR 30 invocations at 0.20 per million, and 60000.000 GiB-seconds at 0.00001}]"},
		{"the same", 1, 1, calls, calls, rates, "[]"},
		{"not called", 1, 2, metrics.Sum{}, metrics.Sum{}, rates, "[]"},
		{"no prices", 1, 2, calls, calls, metrics.Rates{}, "[]"},
		{"a price that is none", 1, 2, calls, calls, metrics.Rates{Currency: "EUR", PerGiBSecond: "dear"}, "[]"},
	} {
		seen := impact.Figures{Over: 24 * time.Hour, Rates: tt.rates, Before: "trial",
			Here: map[string]metrics.Sum{"warn": tt.here}, Earlier: map[string]metrics.Sum{"warn": tt.earlier}}
		touched := map[string]resource.Change{"function/warn": resource.Update}
		o := impact.Forecast(of(tt.was), of(tt.is), touched, impact.Impact{}, seen)
		if got := fmt.Sprint(o.Costs); got != tt.want {
			t.Errorf("%s: %s\nwant %s", tt.name, got, tt.want)
		}
		seen.Over = 0
		if o := impact.Forecast(of(tt.was), of(tt.is), touched, impact.Impact{}, seen); len(o.Costs) != 0 {
			t.Errorf("%s, over no time: %v", tt.name, o.Costs)
		}
	}
}

// Lost data is reported with its age; invocations during cold starts, and those of deleted routes, by past
// traffic.
func TestDataLossAndRouteGaps(t *testing.T) {
	now := time.Unix(1_700_000_000, 0)
	seen := impact.Figures{Now: now, Over: time.Hour,
		Here:     map[string]metrics.Sum{"warn": {Invocations: 7200, MaxMs: 500}, "never": {}},
		Triggers: map[string]int{"warn/ask": 12, "warn/tell": 0},
		Held: []impact.Retained{{Function: "old", What: "log lines", Count: 9, Oldest: now},
			{Function: "old", What: "kept calls", Count: 3}, {Function: "old", What: "rows", Count: 0},
			{Function: "stays", What: "log lines", Count: 4}, {Function: "apart", What: "log lines", Count: 5},
			{Function: "apart", What: "kept calls", Count: 2}, {Function: "warn", What: "kept calls", Count: 8}}}
	c := impact.Impact{Cold: []string{"never", "warn"},
		Closed: []impact.Closed{{Trigger: "warn/ask"}, {Trigger: "warn/tell"}, {Trigger: "warn/other"}}}
	o := impact.Forecast(nil, nil, map[string]resource.Change{"logs/old": resource.Delete,
		"function/old": resource.Delete, "logs/stays": resource.Update, "function/warn": resource.Update, "function/apart": resource.Delete}, c, seen)
	if got, want := fmt.Sprint(o.Losses), "[{apart kept calls 2 0} {old log lines 9 1700000000000} {old kept calls 3 0}]"; got != want {
		t.Errorf("losses %s, want %s", got, want)
	}
	if got, want := fmt.Sprint(o.Cold), "[{warn 7200 500 1}]"; got != want {
		t.Errorf("cold %s, want %s", got, want)
	}
	if got, want := fmt.Sprint(o.Invocations), "[{warn/ask 12}]"; got != want {
		t.Errorf("calls %s, want %s", got, want)
	}
	seen.Over = 0
	if o := impact.Forecast(nil, nil, nil, c, seen); len(o.Cold) != 0 {
		t.Errorf("over no time: %v", o.Cold)
	}
}

// Rare schedules are counted over four weeks, frequent ones over a day.
func TestSchedulesPerDay(t *testing.T) {
	of := func(cron, zone string) []r {
		return []r{{Address: "schedule/warn/sweep", Kind: "schedule", Function: "warn",
			Attributes: map[string]any{"cron": cron, "zone": zone, "enabled": true}}}
	}
	seen := impact.Figures{Now: time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC), Over: time.Hour}
	for cron, want := range map[string]float64{"30 6 * * *": 1, "30 6 * * 1": 4. / 28, "0 * * * *": 24,
		"*/30 * * * *": 48, "*/57 8 * * *": 2} {
		o := impact.Forecast(nil, of(cron, "Europe/Oslo"), map[string]resource.Change{"schedule/warn/sweep": "create",
			"function/warn": "create"}, impact.Impact{}, seen)
		if len(o.Schedules) != 1 {
			t.Fatalf("%s: %+v", cron, o.Schedules)
		}
		s := o.Schedules[0]
		if s.After != want || s.Before != 0 || s.Zone != "Europe/Oslo" || s.Function != "warn" || s.Trigger != "warn/sweep" ||
			s.Lost != 0 || s.Doubled != 0 {
			t.Errorf("%s: %+v, want %v a day", cron, s, want)
		}
	}
	o := impact.Forecast(of("30 6 * * *", "Europe/Oslo"), nil, map[string]resource.Change{"schedule/warn/sweep": "delete"},
		impact.Impact{}, seen)
	if s := o.Schedules[0]; s.Before != 1 || s.After != 0 || len(s.Next) != 0 || s.Zone != "" {
		t.Errorf("one that goes: %+v", s)
	}
}

// Schedules are sorted by address.
func TestScheduleOrder(t *testing.T) {
	var after []r
	var want []string
	touched := map[string]resource.Change{}
	for i := range 12 {
		address := fmt.Sprintf("schedule/warn/at%02d", i)
		after = append(after, r{Address: address, Kind: "schedule", Function: "warn",
			Attributes: map[string]any{"every": 60_000.0, "enabled": true}})
		touched[address], want = resource.Create, append(want, fmt.Sprintf("warn/at%02d", i))
	}
	var got []string
	for _, s := range impact.Forecast(nil, after, touched, impact.Impact{},
		impact.Figures{Now: time.Unix(1_700_000_000, 0), Over: time.Hour}).Schedules {
		got = append(got, s.Trigger)
	}
	if !slices.Equal(got, want) {
		t.Errorf("%v", got)
	}
}

// Indirect permissions are exactly those that are reachable from queue to queue, in random services.
func TestIndirectPermissionsByBruteForce(t *testing.T) {
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
				out = append(out, grant(fn, "queues/q"+names[dice.IntN(4)], []string{"send", "send", "receive"}[dice.IntN(3)]))
			}
			if dice.IntN(3) == 0 {
				out = append(out, grant(fn, "tables/"+names[dice.IntN(2)], "read"))
			}
		}
		return out
	}
	// reaches returns a function's permissions, direct and indirect.
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
		for _, x := range impact.Assess(before, after, nil).Through {
			end := x.Via[len(x.Via)-1]
			could, _ := reaches(before, end)
			wasThere := slices.ContainsFunc(impact.Assess(nil, before, nil).Through, func(old impact.Through) bool {
				return old.Function == x.Function && old.Via[len(old.Via)-1] == end
			})
			if told[x.Function] == nil {
				told[x.Function] = map[string]bool{}
			}
			for _, what := range x.May {
				if wasThere && could[what] {
					t.Fatalf("%s could bring about %s by %s before\nbefore %v\nafter %v", x.Function, what, end, before, after)
				}
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

// A rerouted request is reported: if a more specific route shadows the former one, and if a route moves between
// functions.
func TestRerouted(t *testing.T) {
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
		if got := fmt.Sprint(impact.Assess(all(tt.before...), all(tt.after...), nil).Moved); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, got, tt.want)
		}
	}
	closed := impact.Assess(all("a/x GET /s members"), all("a/x GET /s growers"), nil).Closed
	if got := fmt.Sprint(closed); got != "[{a a/x GET /s GET /s members growers}]" {
		t.Errorf("closed: %s", got)
	}
}

// Each impact of a function is reported once, sorted by name, for any number and order of touched resources.
func TestOneImpactPerFunction(t *testing.T) {
	seen := impact.Figures{Now: time.Unix(1_700_000_000, 0), Over: 24 * time.Hour, Here: map[string]metrics.Sum{}}
	touched := map[string]resource.Change{}
	var before, after []r
	var names []string
	for i := range 9 {
		fn := fmt.Sprintf("row%d", i)
		names = append(names, fn)
		seen.Here[fn] = metrics.Sum{Invocations: 10, MemoryPeak: 200 << 20}
		for _, kind := range []string{"function", "logs", "identity", "revision", "pointer"} {
			touched[kind+"/"+fn] = resource.Update
		}
		for at, list := range map[float64]*[]r{128 << 20: &before, 160 << 20: &after} {
			*list = append(*list, r{Address: "function/" + fn, Kind: "function", Function: fn,
				Attributes: map[string]any{"memory": at, "timeout": 5000.0}})
		}
	}
	var got []string
	for _, tight := range impact.Forecast(before, after, touched, impact.Impact{}, seen).Tight {
		got = append(got, tight.Function)
	}
	if fmt.Sprint(got) != fmt.Sprint(names) {
		t.Errorf("%v, want %v", got, names)
	}
}
