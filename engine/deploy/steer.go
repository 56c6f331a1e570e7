package deploy

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"rudmar/core/expand"
	"rudmar/core/manifest"
	"rudmar/core/resource"
	"rudmar/core/tree"
	"rudmar/engine/store"
)

// steered gives what a version becomes in a place while it gets only a part of the
// calls there: its pointers share them out between the revisions that served before
// and its own. The resources themselves are not changed.
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
				continue // it is the same one
			}
			r.Attributes = []expand.Attribute{{Name: "shares", Value: Shares(old[r.Function], id, shift.Share()),
				From: tree.Origin{Rule: tree.DerivedFrom}}}
		}
	}
	return out, nil
}

// Shares gives a pointer's shares, in percent: so much for a new revision, and the
// rest for the old one.
func Shares(old, new string, share float64) map[string]any {
	out := map[string]any{}
	if share > 0 {
		out[new] = share
	}
	if share < 100 {
		out[old] = 100 - share
	}
	return out
}

// Pointers gives which revisions share the calls of each function of a place, as
// recorded.
func (p *Planner) Pointers(ctx context.Context, place manifest.Place) (map[string][]string, error) {
	stage, err := p.store.Stage(ctx, place)
	if err != nil {
		return nil, err
	}
	record, err := p.recordOf(ctx, stage)
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for _, r := range record {
		if r.Kind == resource.Pointer {
			shares, _ := r.Attributes["shares"].(map[string]any)
			out[r.Function] = slices.Sorted(maps.Keys(shares))
		}
	}
	return out, nil
}

// Served gives which revision serves each function of a place now, as recorded: the
// one with the most calls, where several do.
func (p *Planner) Served(ctx context.Context, place manifest.Place) (map[string]string, error) {
	stage, err := p.store.Stage(ctx, place)
	if err != nil {
		return nil, err
	}
	record, err := p.recordOf(ctx, stage)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, r := range record {
		if r.Kind != resource.Pointer {
			continue
		}
		shares, _ := r.Attributes["shares"].(map[string]any)
		most := 0.0
		for id, share := range shares {
			if n, _ := share.(float64); n > most || n == most && strings.Compare(id, out[r.Function]) < 0 {
				most, out[r.Function] = n, id
			}
		}
	}
	return out, nil
}
