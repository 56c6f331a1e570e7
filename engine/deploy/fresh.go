package deploy

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"rudmar/core/canon"
	"rudmar/core/expand"
	"rudmar/core/plan"
)

// checkFresh checks that recorded and actual state have not changed since the plan.
func (r *Runner) checkFresh(ctx context.Context, p *plan.Plan) error {
	now, err := r.planner.again(ctx, p)
	if err != nil {
		return err
	}
	switch {
	case now.Base.Serial != p.Base.Serial:
		return fmt.Errorf("%w: another deployment ran since then (record serial %d, now %d); recompute the plan", ErrOutOfDate,
			p.Base.Serial, now.Base.Serial)
	case now.Base.Fingerprint != p.Base.Fingerprint:
		return fmt.Errorf("%w: the actual state changed since then%s; recompute the plan", ErrOutOfDate, moved(p, now))
	}
	wants := make(map[string]map[string]any, len(now.Steps))
	for _, s := range now.Steps {
		wants[s.Address] = s.Want
	}
	for _, s := range p.Steps {
		if now, ok := wants[s.Address]; !ok || !canon.Equal(s.Want, now) {
			return fmt.Errorf("%w: the required state of %s has changed since then, for example because a secret was set; recompute the plan",
				ErrOutOfDate, s.Address)
		}
	}
	if len(now.Steps) != len(p.Steps) {
		return fmt.Errorf("%w: %d steps were added since then, for example because a secret was set; recompute the plan",
			ErrOutOfDate, len(now.Steps))
	}
	return nil
}

// moved names the differences of a newer plan.
func moved(old, now *plan.Plan) string {
	before := map[string]string{}
	for _, s := range old.Steps {
		before[s.Address] = string(s.Change) + s.Tag
	}
	var names []string
	for _, s := range now.Steps {
		if before[s.Address] != string(s.Change)+s.Tag {
			names = append(names, s.Address)
		}
		delete(before, s.Address)
	}
	for address := range before {
		names = append(names, address)
	}
	if len(names) == 0 {
		return ""
	}
	slices.Sort(names)
	return " (" + strings.Join(names, ", ") + ")"
}

// sameSecrets checks that no secret was set since a plan: its value must not be deployed under the fingerprint
// of the previous one.
func sameSecrets(p *plan.Plan, wanted []expand.Resource) error {
	values := map[string]*expand.Resource{}
	for i, w := range wanted {
		values[w.Address] = &wanted[i]
	}
	for _, s := range p.Steps {
		w := values[s.Address]
		if w == nil || s.Want == nil {
			continue
		}
		for name := range w.Secrets {
			if !canon.Equal(s.Want[name], w.Get(name)) {
				return fmt.Errorf("%w: the secret in %s of %s was set since then; recompute the plan", ErrOutOfDate, name, s.Address)
			}
		}
	}
	return nil
}
