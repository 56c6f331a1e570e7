package deploy

import (
	"context"
	"errors"
	"slices"

	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/engine/store"
	"rudmar/platform/api"
)

// drops finds the versions that dropped resources of a place.
type drops struct {
	planner *Planner
	draft   Draft
	kinds   api.Kinds
	known   map[int]map[string]bool // the addresses that a version declares, by version
}

// dropped returns, by address, the version that dropped a recorded resource which a draft does not declare. A
// resource is dropped once as a rule; if it was declared again in between, one of these versions is returned.
func (p *Planner) dropped(ctx context.Context, d Draft, in *plan.Inputs, kinds api.Kinds) (map[string]int, error) {
	out := map[string]int{}
	f := drops{planner: p, draft: d, kinds: kinds, known: map[int]map[string]bool{}}
	wanted := map[string]bool{}
	for i := range in.Wanted {
		wanted[in.Wanted[i].Address] = true
	}
	if d.Code == nil {
		f.known[d.Version] = wanted
	}
	for i := range in.Record {
		address := in.Record[i].Address
		if wanted[address] {
			continue
		}
		by, err := f.by(ctx, in.Base.From, d.Version, func(ctx context.Context, version int) (bool, error) {
			declares, err := f.declared(ctx, version)
			return declares[address], err
		})
		if err != nil {
			return nil, err
		}
		out[address] = by
	}
	return out, nil
}

// by returns a version in (from, to] that no longer has what the version before it has, by bisection; 0 if the last
// one has it.
func (f *drops) by(ctx context.Context, from, to int, has func(ctx context.Context, version int) (bool, error)) (int,
	error) {
	if from >= to {
		return 0, nil
	}
	if still, err := has(ctx, to); err != nil || still {
		return 0, err
	}
	for to-from > 1 {
		middle := (from + to) / 2
		still, err := has(ctx, middle)
		if err != nil {
			return 0, err
		}
		if still {
			from = middle
		} else {
			to = middle
		}
	}
	return to, nil
}

// declared returns the addresses that a version declares in the place; none for a version that is not kept.
func (f *drops) declared(ctx context.Context, version int) (map[string]bool, error) {
	if known, ok := f.known[version]; ok {
		return known, nil
	}
	service, _, err := f.planner.Service(ctx, f.draft.Place.Service, version)
	out := map[string]bool{}
	if errors.Is(err, store.ErrNotFound) {
		f.known[version] = out
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	if !hasTarget(service, f.draft.Place) {
		f.known[version] = out
		return out, nil
	}
	resources, _, err := f.planner.desired(ctx, Draft{Place: f.draft.Place, Version: version, Service: service}, f.kinds)
	if err != nil {
		return nil, err
	}
	for i := range resources {
		out[resources[i].Address] = true
	}
	f.known[version] = out
	return out, nil
}

func hasTarget(service *manifest.Service, at manifest.Place) bool {
	stage := service.Stage(at.Stage)
	return stage != nil && slices.Contains(stage.Targets, at.Target)
}

// leftBy returns the version that dropped a place: its stage, or the stage's target.
func (p *Planner) leftBy(ctx context.Context, at manifest.Place, from, version int) (int, error) {
	f := drops{planner: p}
	by, err := f.by(ctx, from, version, func(ctx context.Context, version int) (bool, error) {
		service, _, err := p.Service(ctx, at.Service, version)
		if errors.Is(err, store.ErrNotFound) {
			return false, nil
		}
		return err == nil && hasTarget(service, at), err
	})
	if by == 0 {
		by = version
	}
	return by, err
}
