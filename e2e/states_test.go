package e2e

import (
	"fmt"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"rudmar/server/api"
)

// holding delays requests of the kind named in a field, until another is set.
func holding(kind *atomic.Value, held *atomic.Int64) func(c *crashing, pass http.Handler) http.HandlerFunc {
	return func(_ *crashing, pass http.Handler) http.HandlerFunc {
		return func(w http.ResponseWriter, q *http.Request) {
			is := ""
			switch {
			case strings.Contains(q.URL.Path, "/resources/") && q.Method == http.MethodPut:
				is = "deploying"
			case strings.HasSuffix(q.URL.Path, "/scopes/frostline/live"):
				is = "planning"
			case strings.HasSuffix(q.URL.Path, "/callers"):
				is = "testing"
			}
			if kind.Load() == is {
				held.Add(1)
			}
			for is != "" && kind.Load() == is {
				select {
				case <-q.Context().Done(): // the client has disconnected
					hangUp(w)
					return
				case <-time.After(20 * time.Millisecond): // interval of checks of a condition
				}
			}
			pass.ServeHTTP(w, q)
		}
	}
}

// Rudmar is killed while a version is in each state of its way, that of shifting and of rolling back with them,
// and started again: the version continues from there, by itself.
func TestKilledInEachState(t *testing.T) {
	t.Parallel()
	var hold atomic.Value
	var held atomic.Int64
	hold.Store("")
	c, r, dir := newCrashing(t, holding(&hold, &held))
	t.Cleanup(func() { hold.Store("") }) // or the platform waits for its requests
	brings := func(version int, inLive string) {
		t.Helper()
		put(t, dir, map[string]string{
			"rudmar.yaml": `rudmar: 1
service: frostline
owner: cold-nights
stages:
  - {stage: trial, target: local/north, enter: {when: push}}
  - stage: live
    target: local/north
    enter: {after: trial, when: request}
    shift: {steps: [50%], every: 1h}
`,
			"functions/warn/function.yaml": "function: warn\nhandler: warn:run\nenv: {SAYS: frost}\nper_stage: {live: {env: {SAYS: " + inLive +
				"}}}\ntriggers: {ask: {route: GET /warn, open_to: authenticated}}\n",
			"functions/warn/warn.py":         fmt.Sprintf("# version %d\nimport os\ndef run(call):\n    return {\"says\": os.environ[\"SAYS\"]}\n", version),
			"functions/warn/cases/says.yaml": "case: it warns\nsend: {route: GET /warn}\nexpect: [body.says == \"frost\"]\nno_side_effects: true\n",
		})
		git(t, dir, "add", "--all")
		git(t, dir, "commit", "--quiet", "-m", fmt.Sprint("Version ", version))
		if out, err := run(t, dir, "git", "push", "origin", "HEAD"); err != nil {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	place := func(version int) string {
		return fmt.Sprintf("/services/frostline/deliveries/%d/stages/live", version)
	}
	reaches := func(version int, state string) {
		t.Helper()
		until(t, fmt.Sprintf("version %d is %s in live", version, state), func() bool {
			var d api.DeliveryStage
			status, _ := r.try("wren", "GET", place(version), nil, &d)
			return status == 200 && string(d.Place.State) == state
		})
	}
	kill := func() {
		t.Helper()
		c.mu.Lock()
		c.kill(&c.rudmar, c.startRudmar)
		c.mu.Unlock()
		until(t, "Rudmar listens again", func() bool {
			status, _ := answers(r, "GET", "/healthz", nil, nil)
			return status != 0 // though it can report that its platform does not respond
		})
	}
	request := func(version int, at int64) {
		t.Helper()
		address, stage := place(version), "live"
		var m api.Impact
		r.ask("wren", "GET", address+"/impact", nil, &m)
		r.ask("wren", "POST", address+"/request", api.DeliveryDecision{ImpactDigest: &m.Digest, Confirm: &stage, At: api.Optional(at)}, nil)
	}
	brings(1, "frost")
	reaches(1, "waiting")
	kill()
	reaches(1, "waiting")
	soon := time.Now().Add(time.Second)
	request(1, soon.UnixMilli()) // so it is planned during the hold
	hold.Store("planning")
	held.Store(0)
	until(t, "it is planned", func() bool { return held.Load() > 0 && time.Now().After(soon) })
	kill()
	for _, state := range []string{"deploying", "testing"} {
		hold.Store(state) // and the former hold is released
		reaches(1, state)
		kill()
		reaches(1, state)
	}
	hold.Store("")
	reaches(1, "settled")
	kill()
	reaches(1, "settled")

	brings(2, "frost")
	reaches(2, "waiting")
	request(2, 0)
	reaches(2, "shifting")
	kill()
	reaches(2, "shifting")
	r.ask("wren", "POST", place(2)+"/advance", api.DeliveryDecision{}, nil)
	reaches(2, "settled")

	brings(3, "nothing") // its case fails there, and it rolls back
	reaches(3, "waiting")
	request(3, 0)
	reaches(3, "shifting")
	hold.Store("testing")
	r.ask("wren", "POST", place(3)+"/advance", api.DeliveryDecision{}, nil)
	reaches(3, "testing")
	hold.Store("deploying") // the rollback
	until(t, "it goes back", func() bool {
		var d api.DeliveryStage
		r.try("wren", "GET", place(3), nil, &d)
		return d.Shift != nil && api.OrZero(d.Shift.RollbackReason) != ""
	})
	kill()
	hold.Store("")
	reaches(3, "rolled-back")
	kill()
	reaches(3, "rolled-back")
	reaches(2, "settled")
	var kept api.SavedPlan
	two := 2
	r.ask("wren", "POST", "/services/frostline/plans", api.PlanRequest{Stage: "live", Version: &two}, &kept)
	if len(kept.Plan.Steps) != 0 || len(kept.Plan.Blockers) != 0 {
		t.Errorf("the next plan has %d steps: %+v", len(kept.Plan.Steps), kept.Plan.Steps)
	}
}
