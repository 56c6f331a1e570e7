package engine_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine/deliver"
	"rudmar/platform"
)

// A version that was requested for a later time enters then, automatically.
func TestRequestForATime(t *testing.T) {
	r := newRig(t)
	files := first()
	files["rudmar.yaml"] = `rudmar: 1
service: frostline
owner: cold-nights
stages:
  - {stage: trial, target: local/north, enter: {when: push}}
  - {stage: live, target: local/north, enter: {after: trial, when: request}}
`
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	ask := func(at time.Time) error {
		say := r.say("wren", "live", 1)
		say.At = at
		return r.Line.Request(t.Context(), "frostline", 1, "live", say)
	}
	for _, wrong := range []time.Time{time.Now().Add(-time.Second), time.Now().Add(31 * 24 * time.Hour)} {
		if err := ask(wrong); !errors.Is(err, deliver.ErrTime) {
			t.Errorf("%s: %v", wrong, err)
		}
	}
	must(t, ask(time.Now().Add(24*time.Hour)))
	r.until("it to wait for the time", func() bool {
		judged, err := r.Line.GateResults(t.Context(), "frostline", 1)
		gates := judged[deliver.Key{Version: 1, Stage: "live"}].Gates
		return err == nil && len(gates) > 1 && strings.Contains(gates[1].Reason, "requested by wren, not before ")
	})
	soon := time.Now().Add(1500 * time.Millisecond) // requested again, for an earlier time
	must(t, ask(soon))
	d := r.reaches(1, "live", delivery.Settled)
	one, err := r.Store.Deployment(t.Context(), d.Deployments[0])
	if err != nil || one.StartedAt.Before(soon.Truncate(time.Millisecond)) {
		t.Errorf("it entered at %s, before %s: %v", one.StartedAt, soon, err)
	}
}

// A soak gate without an error rate checks each function's objectives, over the objectives' own periods:
// earlier failures no longer count.
func TestObjectivesBlockTheSoak(t *testing.T) {
	r, ahead := newRigAhead(t)
	r.push(map[string]string{
		"rudmar.yaml": `rudmar: 1
service: frostline
owner: cold-nights
stages:
  - {stage: trial, target: local/north, enter: {when: push}}
  - {stage: live, target: local/north, enter: {after: trial, when: ready}, gates: {soak: {min_invocations: 4}}}
`,
		"a/function.yaml": fn("a", "objectives: {errors_under: 10%, period: 5m}\n"),
		"a/main.py":       "def run(call):\n    if call.event['query'].get('frost'): raise ValueError('frozen')\n    return 'a'\n",
	})
	r.reaches(1, "trial", delivery.Settled)
	for i := range 4 {
		event := map[string]any{"query": map[string]any{}}
		if i == 0 {
			event["query"] = map[string]any{"frost": "yes"}
		}
		if _, err := r.platform.Invoke(t.Context(), platform.Scope{Region: "north", Service: "frostline", Stage: "trial"}, "a",
			"ask", "", event, time.Minute); err != nil {
			t.Fatal(err)
		}
	}
	r.until("the soak to fail", func() bool {
		g := r.gate(1, "live", delivery.SoakGate)
		return g.State == delivery.GateNotMet && strings.Contains(g.Reason, "a misses its objective: 25% of 4 invocations failed, objective under 10%")
	})
	ahead.Store(int64(4 * time.Minute))
	if g := r.gate(1, "live", delivery.SoakGate); g.State != delivery.GateNotMet {
		t.Errorf("after four minutes: %+v", g)
	}
	ahead.Store(int64(7 * time.Minute))
	r.reaches(1, "live", delivery.Settled)
}
