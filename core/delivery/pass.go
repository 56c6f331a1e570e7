package delivery

import (
	"fmt"
	"slices"
)

// Passed is a gate that somebody passed over, of one version in one stage.
type Passed struct {
	Kind, Name     string
	Person, Reason string
}

// MayPass tells whether a kind of gate can be passed over: what a version has to have
// come through, and what asks that somebody asks, cannot.
func MayPass(kind string) bool {
	return slices.Contains([]string{CasesGate, SoakGate, ApprovalsGate, WindowGate, RuleGate}, kind)
}

// Passable tells whether the gate can be passed over as it is now.
func (g Gate) Passable() bool { return g.State != Holds && MayPass(g.Kind) }

// PassOver lets the gates hold that somebody passed over, and says so. Those that hold
// by themselves stay as they are.
func PassOver(gates []Gate, passed []Passed) []Gate {
	out := slices.Clone(gates)
	for i := range out {
		for _, p := range passed {
			if g := &out[i]; g.Passable() && g.Kind == p.Kind && g.Name == p.Name {
				g.State, g.Why = Holds, fmt.Sprintf("passed over by %s: %s (else: %s)", p.Person, p.Reason, g.Why)
			}
		}
	}
	return out
}
