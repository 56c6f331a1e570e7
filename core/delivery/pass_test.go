package delivery_test

import (
	"strings"
	"testing"

	"rudmar/core/delivery"
)

func TestOverride(t *testing.T) {
	kinds := []string{delivery.BranchGate, delivery.BeforeGate, delivery.RequestGate, delivery.CasesGate, delivery.SoakGate,
		delivery.ApprovalsGate, delivery.WindowGate, delivery.RuleGate, delivery.StrictGate}
	var gates []delivery.Gate
	var passed []delivery.Override
	for _, k := range kinds {
		gates = append(gates, delivery.Gate{Kind: k, Name: "one", State: delivery.GateWaiting, Reason: "it waits"},
			delivery.Gate{Kind: k, Name: "two", State: delivery.GateNotMet, Reason: "it fails"},
			delivery.Gate{Kind: k, Name: "three", State: delivery.GatePassed, Reason: "it holds"})
		for _, name := range []string{"one", "three"} {
			passed = append(passed, delivery.Override{Kind: k, Name: name, Person: "heron", Reason: "the dam is full"})
		}
	}
	for i, g := range delivery.ApplyOverrides(gates, passed) {
		switch {
		case g.Name == "one" && delivery.CanOverride(g.Kind):
			if g.State != delivery.GateOverridden || g.Reason != "overridden by heron: the dam is full (otherwise: it waits)" {
				t.Errorf("%s %s: %s, %s", g.Kind, g.Name, g.State, g.Reason)
			}
		case g.State != gates[i].State || g.Reason != gates[i].Reason:
			t.Errorf("%s %s: %s, %s", g.Kind, g.Name, g.State, g.Reason)
		}
	}
	if strings.Contains(gates[9].Reason, "heron") {
		t.Error("what was given was changed")
	}
	for _, k := range []string{delivery.BranchGate, delivery.BeforeGate, delivery.RequestGate, delivery.StrictGate} {
		if delivery.CanOverride(k) {
			t.Errorf("%s can be passed over", k)
		}
	}
}
