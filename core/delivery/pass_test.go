package delivery_test

import (
	"strings"
	"testing"

	"rudmar/core/delivery"
)

func TestPassOver(t *testing.T) {
	kinds := []string{delivery.BranchGate, delivery.BeforeGate, delivery.RequestGate, delivery.CasesGate, delivery.SoakGate,
		delivery.ApprovalsGate, delivery.WindowGate, delivery.RuleGate, delivery.StrictGate}
	var gates []delivery.Gate
	var passed []delivery.Passed
	for _, k := range kinds {
		gates = append(gates, delivery.Gate{Kind: k, Name: "one", State: delivery.Waits, Why: "it waits"},
			delivery.Gate{Kind: k, Name: "two", State: delivery.Fails, Why: "it fails"},
			delivery.Gate{Kind: k, Name: "three", State: delivery.Holds, Why: "it holds"})
		for _, name := range []string{"one", "three"} {
			passed = append(passed, delivery.Passed{Kind: k, Name: name, Person: "heron", Reason: "the dam is full"})
		}
	}
	for i, g := range delivery.PassOver(gates, passed) {
		switch {
		case g.Name == "one" && delivery.MayPass(g.Kind):
			if g.State != delivery.Holds || g.Why != "passed over by heron: the dam is full (else: it waits)" {
				t.Errorf("%s %s: %s, %s", g.Kind, g.Name, g.State, g.Why)
			}
		case g.State != gates[i].State || g.Why != gates[i].Why:
			t.Errorf("%s %s: %s, %s", g.Kind, g.Name, g.State, g.Why)
		}
	}
	if strings.Contains(gates[9].Why, "heron") {
		t.Error("what was given was changed")
	}
	for _, k := range []string{delivery.BranchGate, delivery.BeforeGate, delivery.RequestGate, delivery.StrictGate} {
		if delivery.MayPass(k) {
			t.Errorf("%s can be passed over", k)
		}
	}
}
