package deploy

import (
	"context"
	"slices"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/plan"
)

// unbuilt stands for the digest of an archive that is not built yet.
const unbuilt = "not built yet"

// Draft is an edit that is not in a version: its plan can be shown, but never executed.
type Draft struct {
	Place   manifest.Place
	Version int // the version whose archives are used if the code is not edited
	Service *manifest.Service
	Code    map[string][]string // function → edited files of its code; nil if nothing is edited
	// Choice selects functions; nil for all.
	Choice *delivery.Choice
}

// DraftPlan computes the plan of an edit, with an outlook.
func (p *Planner) DraftPlan(ctx context.Context, d Draft) (*plan.Plan, error) {
	in, err := p.gather(ctx, d)
	if err != nil {
		return nil, err
	}
	for fn, files := range d.Code {
		in.Files[fn] = slices.Compact(slices.Sorted(slices.Values(slices.Concat(in.Files[fn], files))))
	}
	if in.Seen, err = p.seen(ctx, d.Place, d.Service, &in); err != nil {
		return nil, err
	}
	in.Draft = true
	return plan.Compute(in), nil
}
