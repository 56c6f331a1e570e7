package deliver

import (
	"errors"
	"testing"
	"time"

	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/engine/store"
)

// A failed delivery continues by a successful deployment of its own version that ended since it failed: by no
// other one.
func TestDeployedSince(t *testing.T) {
	stopped := time.Date(2026, 11, 3, 6, 30, 0, 0, time.UTC)
	for _, tt := range []struct {
		what    string
		version int
		state   string
		ended   time.Duration // after it stopped
		counts  bool
	}{
		{"its own", 2, store.Succeeded, time.Minute, true},
		{"its own, before", 2, store.Succeeded, -time.Minute, false},
		{"its own, which stopped it", 2, store.Succeeded, 0, false},
		{"its own, not done", 2, store.PartiallySucceeded, time.Minute, false},
		{"another version's", 1, store.Succeeded, time.Minute, false},
	} {
		now := stopped.Add(-time.Hour)
		s := opened(t, func() time.Time { return now })
		unreadable(t, s) // there has to be a service
		at := manifest.PlaceOf("frostline", "trial", "local/north")
		p := &plan.Plan{Base: plan.Base{Place: at, Version: tt.version}}
		kept, err := s.AddPlan(t.Context(), "wren", p)
		if err != nil {
			t.Fatal(err)
		}
		id, err := s.AddDeployment(t.Context(), store.Begin{PlanID: kept, Plan: p, Person: "wren", Holder: "me"})
		lease, leaseErr := s.TakeLease(t.Context(), at, "me", time.Minute)
		now = stopped.Add(tt.ended)
		ended := store.Deployment{ID: id, Place: at, Version: tt.version, State: tt.state}
		if err := errors.Join(err, leaseErr, s.EndDeployment(t.Context(), lease, ended)); err != nil {
			t.Fatal(err)
		}
		got, err := New(Config{Store: s}).deployedSince(t.Context(),
			store.Delivery{Service: "frostline", Version: 2, Stage: "trial", Since: stopped})
		if err != nil || (got != nil) != tt.counts || got != nil && got.ID != id {
			t.Errorf("%s: %+v %v", tt.what, got, err)
		}
	}
}

// A change wakes that service at once, and no other.
func TestChangeEndsWaiting(t *testing.T) {
	now := time.Date(2026, 11, 3, 6, 30, 0, 0, time.UTC)
	s := opened(t, func() time.Time { return now })
	l := New(Config{Store: s})
	long := wait{now.Add(longestLook), longestLook}
	for _, service := range []string{"frostline", "watering"} {
		l.waits[deliveryOf{service, Key{1, "live"}}] = long
		l.idle[stageOf{service, "live"}] = idleStage{now.Add(idleFor), 0}
	}
	l.Changed("frostline")
	if w := l.waits[deliveryOf{"frostline", Key{1, "live"}}]; w.until.After(now) || w.long != firstLook || l.isIdle(stageOf{"frostline", "live"}) {
		t.Errorf("it is left alone until %s", w.until)
	}
	if w := l.waits[deliveryOf{"watering", Key{1, "live"}}]; w != long || !l.isIdle(stageOf{"watering", "live"}) {
		t.Errorf("another service is looked at, too: %+v", w)
	}
	select {
	case <-l.wake:
	default:
		t.Error("the line is not woken")
	}
}
