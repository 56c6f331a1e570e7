package delivery

import (
	"fmt"
	"slices"
)

// Override is a gate that somebody overrode, of one version in one stage.
type Override struct {
	Kind, Name     string
	Person, Reason string
}

// CanOverride reports whether a kind of gate can be overridden: the previous stage, and the need for a request,
// cannot.
func CanOverride(kind string) bool {
	return slices.Contains([]string{CasesGate, SoakGate, ApprovalsGate, WindowGate, RuleGate}, kind)
}

// Overridable reports whether the gate can be overrode as it is now.
func (g Gate) Overridable() bool { return !g.Passed() && CanOverride(g.Kind) }

// ApplyOverrides marks overridden gates as such. Gates that pass by themselves stay unchanged.
func ApplyOverrides(gates []Gate, passed []Override) []Gate {
	out := slices.Clone(gates)
	for i := range out {
		for _, p := range passed {
			if g := &out[i]; g.Overridable() && g.Kind == p.Kind && g.Name == p.Name {
				g.State, g.Reason = GateOverridden, fmt.Sprintf("overridden by %s: %s (otherwise: %s)", p.Person, p.Reason, g.Reason)
			}
		}
	}
	return out
}
