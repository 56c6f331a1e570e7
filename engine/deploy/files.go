package deploy

import (
	"context"
	"errors"
	"sort"

	"rudmar/core/delivery"
	"rudmar/core/pack"
)

// changedFiles lists, per function, the files that differ between the deployed version and the new one.
func (p *Planner) changedFiles(ctx context.Context, d Draft, from int) (map[string][]string, error) {
	out := map[string][]string{}
	if from == 0 {
		return out, nil
	}
	there, err := p.store.DeployedChoice(ctx, d.Place.Service, from, d.Place.Stage)
	if err != nil || from == d.Version && there == nil {
		return out, err
	}
	before, err := p.digests(ctx, d.Place.Service, from, there)
	if err != nil {
		return nil, err
	}
	after, err := p.digests(ctx, d.Place.Service, d.Version, d.Choice)
	if err != nil {
		return nil, err
	}
	for function, digest := range after {
		if old := before[function]; old == "" || old == digest {
			continue
		}
		a, errA := p.store.Artifact(ctx, before[function])
		b, errB := p.store.Artifact(ctx, digest)
		if err := errors.Join(errA, errB); err != nil {
			return nil, err
		}
		out[function] = differing(a.Listing, b.Listing)
	}
	return out, nil
}

// digests returns the archives of a version, by function, and of those that were left at
// other versions by a choice.
func (p *Planner) digests(ctx context.Context, service string, version int,
	c *delivery.Choice) (map[string]string, error) {
	out := map[string]string{}
	for _, v := range versionsOf(c, version) {
		list, err := p.store.VersionFunctions(ctx, service, v)
		if err != nil {
			return nil, err
		}
		for _, f := range list {
			if c.Version(f.Function, version) == v {
				out[f.Function] = f.Digest
			}
		}
	}
	return out, nil
}

func differing(a, b pack.Listing) []string {
	sums := map[string]string{}
	for _, f := range a {
		sums[f.Path] = f.SHA256
	}
	var out []string
	for _, f := range b {
		if sums[f.Path] != f.SHA256 {
			out = append(out, f.Path)
		}
		delete(sums, f.Path)
	}
	for gone := range sums {
		out = append(out, gone)
	}
	sort.Strings(out)
	return out
}
