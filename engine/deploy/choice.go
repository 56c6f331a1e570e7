package deploy

import (
	"context"
	"fmt"
	"slices"

	"rudmar/core/delivery"
	"rudmar/core/expand"
	"rudmar/core/manifest"
)

// draftOf returns the content of a version at a place: its requested functions.
func (p *Planner) draftOf(ctx context.Context, place manifest.Place, version int) (Draft, error) {
	d := Draft{Place: place, Version: version}
	var err error
	if d.Service, _, err = p.Service(ctx, place.Service, version); err != nil {
		return d, err
	}
	d.Choice, err = p.store.Choice(ctx, place.Service, version, place.Stage)
	return d, err
}

// versionsOf lists the versions whose functions a stage contains after a selection: the newest first.
func versionsOf(c *delivery.Choice, entered int) []int {
	out := []int{entered}
	if c == nil {
		return out
	}
	for _, v := range c.Kept {
		if v > 0 && !slices.Contains(out, v) {
			out = append(out, v)
		}
	}
	slices.Sort(out[1:])
	return out
}

// combined returns the resources of the functions that enter, and those of the others as they
// are: each of its version.
func (p *Planner) combined(ctx context.Context, d Draft, in expand.Inputs) (
	[]expand.Resource, []expand.Problem, error) {
	place := d.Place
	var parts []expand.Part
	for _, v := range versionsOf(d.Choice, d.Version) {
		service, _, err := p.Service(ctx, place.Service, v)
		if err != nil {
			return nil, nil, fmt.Errorf("reading what stays: %w", err)
		}
		stage := service.Stage(place.Stage)
		if stage == nil || !slices.Contains(stage.Targets, place.Target) {
			continue // no function of that version is deployed
		}
		its, err := p.of(ctx, place.Service, v, in)
		if err != nil {
			return nil, nil, err
		}
		parts = append(parts, expand.Part{Service: service, Stage: stage, Inputs: its,
			Has: func(function string) bool { return d.Choice.Version(function, d.Version) == v }})
	}
	resources, problems := expand.Mix(parts, place.Target)
	return resources, problems, nil
}

// DeployedVersions returns the version of each function of a stage.
func (p *Planner) DeployedVersions(ctx context.Context, service, stage string) (map[string]int, error) {
	standing, err := p.store.Standing(ctx, service)
	if err != nil || standing[stage] == 0 {
		return nil, err
	}
	there := standing[stage]
	own, _, err := p.Service(ctx, service, there)
	if err != nil {
		return nil, err
	}
	choice, err := p.store.DeployedChoice(ctx, service, there, stage)
	if err != nil {
		return nil, err
	}
	out := map[string]int{}
	for _, fn := range own.Functions {
		if v := choice.Version(fn.Name, there); v > 0 {
			out[fn.Name] = v
		}
	}
	if choice != nil {
		for name, v := range choice.Kept {
			if v > 0 {
				out[name] = v
			}
		}
	}
	return out, nil
}
