package view_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/route"
	"rudmar/engine/observe"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/server/api"
	"rudmar/server/view"
)

var at = time.Date(2031, 4, 2, 3, 0, 0, 0, time.UTC)

func place(stage, region string) manifest.Place {
	return manifest.PlaceOf("frostline", stage, "local/"+region)
}

// frostline is a service with two stages, the second on two targets.
func frostline() *view.Facts {
	north, coast := manifest.ParseTarget("local/north"), manifest.ParseTarget("local/coast")
	return &view.Facts{
		Service: store.Service{Name: "frostline"}, Branch: "main",
		Head:  source.Commit{Hash: "abc", Author: "wren", Message: "warn sooner", At: at},
		Build: store.Build{Hash: "abc", State: store.BuildSucceeded, Version: 3}, Newest: 3,
		Manifests: &manifest.Service{Name: "frostline", About: "Frost warnings",
			Stages: []manifest.Stage{{Name: "trial", Targets: []manifest.Target{north}},
				{Name: "live", Targets: []manifest.Target{north, coast}, After: "trial"}},
			Functions: []*manifest.Function{}},
		Places: []store.Stage{{Place: place("trial", "north"), Version: 3, Since: at},
			{Place: place("live", "north"), Version: 2, Since: at},
			{Place: place("live", "coast"), Version: 1, Since: at.Add(time.Minute)}},
		Looks: map[manifest.Place]observe.Observation{},
	}
}

func waiting(version int, stage string, gates ...delivery.Gate) view.Delivery {
	return view.Delivery{Delivery: store.Delivery{Service: "frostline", Version: version, Stage: stage,
		State: delivery.Waiting}, Gates: gates}
}

func before(state delivery.GateState) delivery.Gate {
	return delivery.Gate{Kind: delivery.BeforeGate, State: state, Reason: "before " + string(state)}
}

func asked() delivery.Gate {
	return delivery.Gate{Kind: delivery.ApprovalsGate, State: delivery.GateWaiting, Reason: "waiting for one approval"}
}

func TestStageLineSource(t *testing.T) {
	for want, change := range map[string]func(f *view.Facts){
		"built 3":               func(*view.Facts) {},
		"empty 0":               func(f *view.Facts) { f.Head = source.Commit{} },
		"not-built 0":           func(f *view.Facts) { f.Build = store.Build{} },
		"building 0":            func(f *view.Facts) { f.Build.State = store.BuildQueued },
		"failed 0 no such file": func(f *view.Facts) { f.Build.State, f.Build.Reason = store.BuildFailed, "no such file" },
	} {
		f := frostline()
		change(f)
		head := view.StageLine(f).Source
		if got := strings.TrimSpace(fmt.Sprint(head.State, " ", api.OrZero(head.Version), " ",
			api.OrZero(head.Reason))); got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
}

// Each row has the facts about the stage live, and its text in the stage line.
func TestStageLine(t *testing.T) {
	of := func(version int, state delivery.State) view.Delivery {
		return view.Delivery{Delivery: store.Delivery{Version: version, Stage: "live", State: state, Reason: "cases failed"}}
	}
	for _, tt := range []struct {
		name       string
		deliveries []view.Delivery
		want       string // state, reason, number of waiting versions, the next one
	}{
		{"nothing under way", nil, "settled  0"},
		{"one moves", []view.Delivery{of(3, delivery.Deploying), of(2, delivery.Settled)}, "deploying version 3 0"},
		{"the newest stopped", []view.Delivery{of(3, delivery.Failed), of(2, delivery.Settled)},
			"failed version 3: cases failed 0"},
		{"an older one stopped", []view.Delivery{of(3, delivery.Settled), of(2, delivery.Failed)}, "settled  0"},
		{"one waits and has arrived", []view.Delivery{waiting(3, "live", before(delivery.GatePassed), asked())},
			"settled  1, 3 arrived 1 of 2 gates passed: waiting for one approval"},
		{"one is in progress", []view.Delivery{waiting(3, "live", before(delivery.GateWaiting))},
			"settled  1, 3 in-progress 0 of 1 gates passed: before waiting"},
		{"one cannot arrive", []view.Delivery{waiting(3, "live", before(delivery.GateNotMet))}, "settled  0"},
		{"the newest that arrived comes first",
			[]view.Delivery{waiting(4, "live", before(delivery.GateWaiting)), waiting(3, "live", before(delivery.GatePassed), asked())},
			"settled  2, 3 arrived 1 of 2 gates passed: waiting for one approval"},
		{"older than what is there", []view.Delivery{waiting(1, "live", before(delivery.GatePassed))}, "settled  0"},
		{"of another stage", []view.Delivery{waiting(3, "trial", before(delivery.GatePassed))}, "settled  0"},
	} {
		f := frostline()
		f.Deliveries = tt.deliveries
		s := view.StageLine(f).Stages[1]
		got := fmt.Sprintf("%s %s %d", s.State, api.OrZero(s.Reason), s.Waiting)
		if s.Next != nil {
			got += fmt.Sprintf(", %d %s %s", s.Next.Version, s.Next.State, s.Next.Summary)
		}
		if got != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, got, tt.want)
		}
	}
}

// A stage can be rolled back to the version that settled there last before the deployed one, unless a delivery
// is active.
func TestRollbackVersions(t *testing.T) {
	of := func(version int, turn int64, state delivery.State, deployments ...int64) view.Delivery {
		return view.Delivery{Delivery: store.Delivery{Version: version, Stage: "trial", Turn: turn, State: state,
			Deployments: deployments}}
	}
	for _, tt := range []struct {
		name       string
		deliveries []view.Delivery
		want       int
	}{
		{"the one before", []view.Delivery{of(3, 5, delivery.Settled, 9), of(1, 1, delivery.Settled, 1), of(2, 2, delivery.Settled, 4)}, 2},
		{"by their turns", []view.Delivery{of(3, 3, delivery.Settled, 9), of(4, 2, delivery.Settled, 4)}, 4},
		{"not what was rolled back", []view.Delivery{of(3, 5, delivery.Settled, 9), of(2, 2, delivery.RolledBack, 4), of(1, 1, delivery.Settled, 1)}, 1},
		{"not what was never there", []view.Delivery{of(3, 5, delivery.Settled, 9), of(2, 2, delivery.Settled)}, 0},
		{"not what came later", []view.Delivery{of(4, 6, delivery.Settled, 10), of(3, 5, delivery.Settled, 9)}, 0},
		{"not while one moves", []view.Delivery{of(4, 6, delivery.Deploying, 10), of(3, 5, delivery.Settled, 9),
			of(2, 2, delivery.Settled, 4)}, 0},
		{"nothing", nil, 0},
	} {
		f := frostline()
		f.Deliveries = tt.deliveries
		if got := api.OrZero(view.StageLine(f).Stages[0].Before); got != tt.want {
			t.Errorf("%s: version %d, want %d", tt.name, got, tt.want)
		}
	}
}

func TestStageLineWithTargets(t *testing.T) {
	f := frostline()
	f.Looks[place("live", "north")] = observe.Observation{Drift: []plan.Drift{{Function: "warn", Vanished: true},
		{Function: "warn", Follows: "function/warn", Vanished: true}, {Function: "relay", Vanished: true, Left: &plan.IgnoredDrift{}}},
		Functions: map[string]observe.Metrics{"warn": {Invocations: 4, Errors: 1}, "intake": {Invocations: 2}}}
	f.Looks[place("live", "coast")] = observe.Observation{Error: "it is unreachable",
		Functions: map[string]observe.Metrics{"warn": {Invocations: 4, Errors: 2}}}
	s := view.StageLine(f).Stages[1]
	if s.Version != 1 || s.Since != at.Add(time.Minute).UnixMilli() || fmt.Sprint(api.OrZero(s.Versions)) != "[1 2]" ||
		s.Drifted != 1 || s.Failing != 1 || api.OrZero(s.Problem) != "it is unreachable" {
		t.Errorf("%+v", s)
	}
	f.Deliveries = []view.Delivery{waiting(3, "live", before(delivery.GateWaiting))}
	f.Deliveries[0].Blockers = []string{"no key"}
	if s := view.StageLine(f).Stages[1]; s.Blocked == nil || s.Blocked.Version != 3 || s.Blocked.Blockers[0] != "no key" {
		t.Errorf("what stops a version ahead: %+v", s.Blocked)
	}
	f.Places = nil
	if s := view.StageLine(f).Stages[1]; s.State != "empty" || s.Version != 0 || s.Versions != nil {
		t.Errorf("nothing exists: %+v", s)
	}
	f.Manifests = nil
	if line := view.StageLine(f); len(line.Stages) != 0 {
		t.Errorf("no manifests: %+v", line)
	}
}

func TestNeedsAttention(t *testing.T) {
	f := frostline()
	f.Build.State, f.Build.Reason = store.BuildFailed, "no such file"
	f.Deliveries = []view.Delivery{
		waiting(5, "live", before(delivery.GateWaiting), asked()),
		waiting(4, "live", before(delivery.GatePassed), asked()),
		waiting(3, "live", before(delivery.GatePassed), asked()), // would be superseded
		{Delivery: store.Delivery{Version: 3, Stage: "trial", State: delivery.Failed, Reason: "cases failed"}},
		{Delivery: store.Delivery{Version: 2, Stage: "trial", State: delivery.Failed}}, // older than the deployed one
	}
	f.Deliveries[1].Blockers = []string{"no key", "no room"}
	f.Turned = map[manifest.Place][]view.Turned{
		place("live", "north"): {{Name: "sms_key", Functions: []string{"relay", "warn"}}}}
	f.Looks[place("live", "north")] = observe.Observation{
		Drift: []plan.Drift{{Function: "warn", Vanished: true}, {Function: "warn", Unknown: true},
			{Function: "relay", Vanished: true, Left: &plan.IgnoredDrift{}}},
		DeadLetter: map[string]int{"relay": 1, "intake": 3},
		Functions:  map[string]observe.Metrics{"warn": {Invocations: 4, Errors: 1}, "intake": {Invocations: 2}},
		Error:      "it is unreachable",
	}
	var got []string
	for _, n := range view.Attention(f) {
		got = append(got, fmt.Sprintf("%s %s (%s)", n.Kind, n.Text, n.Path))
	}
	want := `build The newest commit failed to build: no such file (source)
failed Version 3 failed in trial: cases failed (deliveries/3/trial)
failed Version 4 is blocked from live: no key; and 1 more (plan?stage=live&version=4)
approval Version 4 cannot enter live yet: waiting for one approval (deliveries/4/live)
platform live on local/north is unreachable: it is unreachable (board)
drift warn was changed outside Rudmar in live on local/north (plan?stage=live&target=local/north&version=2)
dead-letter 3 messages of intake failed five times and are dead letters in live (functions/intake/messages?stage=live)
dead-letter 1 message of relay failed five times and is a dead letter in live (functions/relay/messages?stage=live)
errors warn failed in 1 of 4 invocations in live, last hour (functions/warn/logs?stage=live&target=local/north&call=failed)
secret sms_key changed in live; relay, warn on local/north uses the old value until its plan runs (plan?stage=live&target=local/north&version=2)`
	if strings.Join(got, "\n") != want {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), want)
	}
}

func TestBoard(t *testing.T) {
	f := frostline()
	f.Manifests.Functions = nil
	f.Records = map[manifest.Place][]store.FunctionStatus{
		place("live", "north"): {{Function: "warn", Version: 2, At: at, Memory: 128}},
		place("live", "coast"): {{Function: "warn", Memory: 128}},
	}
	f.Looks[place("live", "north")] = observe.Observation{Drift: []plan.Drift{{Function: "warn", Vanished: true},
		{Function: "warn", Follows: "function/warn", Vanished: true}, {Function: "relay", Vanished: true, Left: &plan.IgnoredDrift{}}},
		Functions: map[string]observe.Metrics{"warn": {Invocations: 4, Errors: 1, MemoryPeak: 90}}}
	f.Looks[place("live", "coast")] = observe.Observation{
		Functions: map[string]observe.Metrics{"warn": {Invocations: 3, MemoryPeak: 100}}}
	f.Behind = map[string]map[string]int{"live": {"warn": 2}}
	board := view.Board(f)
	text, err := json.Marshal(board.Rows)
	want := fmt.Sprintf(`[{"cells":[{"deployed":false,"stage":"trial"},{"at":%d,"behind":2,"deployed":true,"drifted":true,"errors":1,"invocations":7,"memoryLimit":128,"memoryPeak":100,"stage":"live","version":2}],"function":"warn","triggers":[]}]`, at.UnixMilli())
	if err != nil || string(text) != want {
		t.Errorf("got\n%s\nwant\n%s", text, want)
	}
	if strings.Join(board.Stages, " ") != "trial live" {
		t.Error(board.Stages)
	}
}

func TestWords(t *testing.T) {
	routed := func(text string) manifest.Trigger {
		r, err := route.Parse(text)
		if err != nil {
			t.Fatal(err)
		}
		return manifest.Trigger{Kind: manifest.RouteTrigger, Route: manifest.Value[route.Route]{V: r},
			OpenTo: manifest.Value[[]string]{V: []string{"growers", "vets"}}}
	}
	a, b := routed("GET /stations/hill").Route.V, routed("ANY /stations/{station}").Route.V
	for _, tt := range []struct{ got, want string }{
		{strings.Join(view.RouteWords(routed("ANY /a/{b}/{rest...}")), "; "),
			"any method on /a/{b}/{rest...}, open to growers, vets; {b} is one segment, available as params.b; {rest...} is the rest of the path, one segment or more"},
		{view.WhyRoute(nil), "no route matches; the response is 404"},
		{view.WhyRoute([]route.Route{a}), "only this route matches"},
		{view.WhyRoute([]route.Route{a, b}),
			"GET /stations/hill has precedence: segment 2 is a literal, and ANY /stations/{station} has a parameter"},
		{view.WhyRoute([]route.Route{a, routed("ANY /stations/hill").Route.V}),
			"GET /stations/hill has precedence: it names its method"},
		{strings.Join(view.PermissionWords(manifest.Permission{Allow: []string{"read", "*"},
			Resource: manifest.Template{{Literal: "objects/raw*"}}}), "; "),
			`read every one of objects whose name starts with "raw"; use every verb on every one of objects whose name starts with "raw"`},
		{strings.Join(view.PermissionWords(manifest.Permission{Allow: []string{"send"},
			Resource: manifest.Template{{Kind: manifest.ToSetting, Name: "q"}}}), "; "),
			"it can send the resource named by the reference in each stage"},
		{view.ObservedWords(place("live", "north"), observe.Metrics{Invocations: 3, MemoryPeak: 64 << 20, MaxMs: 12.4}),
			"live on local/north: 3 invocations, memory peak 64 MiB, at most 12 ms"},
	} {
		if tt.got != tt.want {
			t.Errorf("%q, want %q", tt.got, tt.want)
		}
	}
}

func TestRunnable(t *testing.T) {
	of := func(version, from int, steps int, problems ...plan.Blocker) *plan.Plan {
		return &plan.Plan{Base: plan.Base{Place: place("live", "north"), Version: version, From: from},
			Steps: make([]plan.Step, steps), Blockers: problems}
	}
	for _, tt := range []struct {
		plan *plan.Plan
		was  bool
		how  api.RunnableAction
		says string
	}{
		{of(3, 3, 1, plan.Blocker{Message: "x"}), true, api.RunnableActionBlocked, "Fix the blockers first"},
		{of(3, 3, 0), true, api.RunnableActionNone, "already matches version 3"},
		{of(3, 3, 2), true, api.RunnableActionRun, "Deploys version 3 to live on local/north now"},
		{of(2, 3, 2), true, api.RunnableActionRollback, "back from version 3 to version 2"},
		{of(4, 3, 2), true, api.RunnableActionRollback, "Redeploys version 4 to live, in place of version 3"},
		{of(4, 3, 2), false, api.RunnableActionDelivery, "through its delivery"},
	} {
		if got := view.Runnable(tt.plan, tt.was); got.Action != tt.how || !strings.Contains(got.Reason, tt.says) {
			t.Errorf("%+v, want %s %q", got, tt.how, tt.says)
		}
	}
}
