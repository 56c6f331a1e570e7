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

// upToDate checks that record and live are as they were when the plan was made.
func (r *Runner) upToDate(ctx context.Context, p *plan.Plan) error {
	now, err := r.planner.again(ctx, p)
	if err != nil {
		return err
	}
	switch {
	case now.Base.Serial != p.Base.Serial:
		return fmt.Errorf("%w: something was deployed there since (record %d, now %d); make a new plan", ErrOutOfDate,
			p.Base.Serial, now.Base.Serial)
	case now.Base.Fingerprint != p.Base.Fingerprint:
		return fmt.Errorf("%w: what is live was changed by hand since%s; make a new plan", ErrOutOfDate, moved(p, now))
	}
	wants := make(map[string]map[string]any, len(now.Steps))
	for _, s := range now.Steps {
		wants[s.Address] = s.Want
	}
	for _, s := range p.Steps {
		if now, ok := wants[s.Address]; !ok || !canon.Equal(s.Want, now) {
			return fmt.Errorf("%w: %s is to become something else since, as when a secret gets another value; make a new plan",
				ErrOutOfDate, s.Address)
		}
	}
	if len(now.Steps) != len(p.Steps) {
		return fmt.Errorf("%w: there are %d steps to be done since, as when a secret gets another value; make a new plan",
			ErrOutOfDate, len(now.Steps))
	}
	return nil
}

// moved names what is otherwise in a newer plan of the same.
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

// sameSecrets checks that no secret was set since a plan was made: its value
// must not go out under the fingerprint of the one before.
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
				return fmt.Errorf("%w: the secret in %s of %s was set since; make a new plan", ErrOutOfDate, name, s.Address)
			}
		}
	}
	return nil
}
