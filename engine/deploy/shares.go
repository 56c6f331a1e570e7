package deploy

import (
	"context"
	"errors"
	"slices"

	"rudmar/core/expand"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/resource"
	"rudmar/core/tree"
	"rudmar/engine/store"
)

// steered returns the desired resources of a version in a place during a traffic shift: its pointers divide
// invocations between the old revisions and its own. It changes no resources in place.
func (p *Planner) steered(ctx context.Context, place manifest.Place, version int,
	resources []expand.Resource) ([]expand.Resource, error) {
	shift, err := p.store.Shift(ctx, place.Service, version, place.Stage)
	if errors.Is(err, store.ErrNotFound) || err == nil && (!shift.Active || shift.Share() >= 100) {
		return resources, nil
	}
	if err != nil {
		return nil, err
	}
	old := shift.Old[place.Target.String()]
	out := slices.Clone(resources)
	for i := range out {
		r := &out[i]
		if r.Kind != resource.Pointer || old[r.Function] == "" {
			continue
		}
		shares, ok := r.Get("shares").(map[string]any)
		if !ok {
			continue
		}
		for id := range shares {
			if id == old[r.Function] {
				continue // the same pointer
			}
			r.Attributes = []expand.Attribute{{Name: "shares", Value: sharesOf(old[r.Function], id, shift.Share()),
				From: tree.Origin{Rule: tree.DerivedFrom}}}
		}
	}
	return out, nil
}

// ComputeShares computes a plan that only changes the shares of existing revisions: other changes outside
// Rudmar are left to a plan that people see.
func (p *Planner) ComputeShares(ctx context.Context, place manifest.Place, version int) (*plan.Plan, error) {
	in, err := p.inputs(ctx, place, version)
	if err != nil {
		return nil, err
	}
	onlyPointers(&in)
	return plan.Compute(in), nil
}

// onlyPointers leaves everything out of a plan but which revisions of functions share the invocations, of those that
// are deployed and stay.
func onlyPointers(in *plan.Inputs) {
	in.Only = resource.Pointer
	deployed := map[string]bool{}
	for i := range in.Record {
		deployed[in.Record[i].Address] = true
	}
	stays := map[string]bool{}
	in.Wanted = slices.DeleteFunc(slices.Clone(in.Wanted), func(r expand.Resource) bool {
		keep := r.Kind == resource.Pointer && deployed[r.Address]
		stays[r.Address] = keep
		return !keep
	})
	in.Record = slices.DeleteFunc(slices.Clone(in.Record), func(r plan.Recorded) bool { return !stays[r.Address] })
	in.Actual = slices.DeleteFunc(slices.Clone(in.Actual), func(l plan.Actual) bool { return l.Kind != resource.Pointer })
	in.Blockers, in.Rules, in.Renamed = nil, nil, map[string]string{}
}

// sharesOf returns a pointer's shares, in percent: that of the new revision, and the rest for the old one.
func sharesOf(old, new string, share float64) map[string]any {
	out := map[string]any{}
	if share > 0 {
		out[new] = share
	}
	if share < 100 {
		out[old] = 100 - share
	}
	return out
}

// Pointers returns which revisions share the calls of each function of a place, as
// recorded: their shares in percent, by function and id.
func (p *Planner) Pointers(ctx context.Context, place manifest.Place) (map[string]map[string]float64, error) {
	stage, err := p.store.Stage(ctx, place)
	if err != nil {
		return nil, err
	}
	record, err := p.recordOf(ctx, stage)
	if err != nil {
		return nil, err
	}
	out := map[string]map[string]float64{}
	for _, r := range record {
		if r.Kind != resource.Pointer {
			continue
		}
		out[r.Function] = map[string]float64{}
		shares, _ := r.Attributes["shares"].(map[string]any)
		for id, share := range shares {
			out[r.Function][id], _ = share.(float64)
		}
	}
	return out, nil
}
