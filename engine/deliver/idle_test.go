package deliver

import (
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine/store"
)

// A stage is left alone until something happens in its service, or for a while.
func TestQuietPeriod(t *testing.T) {
	now := time.Date(2026, 11, 3, 6, 30, 0, 0, time.UTC)
	s := opened(t, func() time.Time { return now })
	tell := func(service, topic string) {
		t.Helper()
		if err := s.Publish(t.Context(), service, topic, nil); err != nil {
			t.Fatal(err)
		}
	}
	tell("frostline", store.TopicDelivery)
	l := New(Config{Store: s})
	actual := stageOf{"frostline", "live"}
	// leave stops inspecting the stage, like an inspection without a result.
	leave := func() {
		t.Helper()
		if err := l.listen(t.Context()); err != nil {
			t.Fatal(err)
		}
		l.idle[actual] = idleStage{now.Add(idleFor), l.heard}
	}
	for _, tt := range []struct {
		what string
		do   func()
		calm bool
	}{
		{"nothing", func() {}, true},
		{"another service", func() { tell("watering", store.TopicDelivery) }, true},
		{"what no gate rests on", func() { tell("frostline", store.TopicGates); tell("frostline", store.TopicBuild) }, true},
		{"a delivery", func() { tell("frostline", store.TopicDelivery) }, false},
		{"a secret", func() { tell("frostline", store.TopicSecret) }, false},
		{"a deployment", func() { tell("frostline", store.TopicDeployment) }, false},
		{"drift", func() { tell("frostline", store.TopicObservation) }, false},
		{"somebody's word", func() { l.Changed("frostline") }, false},
		{"time", func() { now = now.Add(idleFor) }, false},
	} {
		leave()
		tt.do()
		if err := l.listen(t.Context()); err != nil {
			t.Fatal(err)
		}
		if got := l.isIdle(actual); got != tt.calm {
			t.Errorf("after %s it is left alone: %v", tt.what, got)
		}
	}
	// Events before the inspection do not wake it.
	if leave(); !l.isIdle(actual) {
		t.Error("what was known when it was left alone stirs it")
	}
	// Events during the inspection are not missed.
	leave()
	before := l.heard
	tell("frostline", store.TopicDelivery)
	if err := l.listen(t.Context()); err != nil {
		t.Fatal(err)
	}
	l.idle[actual] = idleStage{now.Add(idleFor), before}
	if l.isIdle(actual) {
		t.Error("it is left alone, though something happened while it was looked at")
	}
}

func TestRepeatedChanges(t *testing.T) {
	gate := func(kind string, state delivery.GateState) []delivery.Gate {
		return []delivery.Gate{{Kind: delivery.ApprovalsGate, State: delivery.GateWaiting}, {Kind: kind, State: state}}
	}
	for _, tt := range []struct {
		gates []delivery.Gate
		want  bool
	}{
		{gate(delivery.RequestGate, delivery.GateWaiting), false},
		{gate(delivery.SoakGate, delivery.GateWaiting), true},
		{gate(delivery.SoakGate, delivery.GatePassed), false},
		{gate(delivery.WindowGate, delivery.GateWaiting), true},
		{gate(delivery.RuleGate, delivery.GateNotMet), true},
	} {
		if got := needsPolling(tt.gates); got != tt.want {
			t.Errorf("%+v: %v", tt.gates, got)
		}
	}
}
