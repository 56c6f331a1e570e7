package deploy

import (
	"context"
	"errors"
	"sort"

	"rudmar/core/pack"
)

// changedFiles lists, per function, the files whose bytes differ between two versions.
func (p *Planner) changedFiles(ctx context.Context, service string, from, to int) (map[string][]string, error) {
	out := map[string][]string{}
	if from == 0 || from == to {
		return out, nil
	}
	before, err := p.digests(ctx, service, from)
	if err != nil {
		return nil, err
	}
	after, err := p.digests(ctx, service, to)
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

func (p *Planner) digests(ctx context.Context, service string, version int) (map[string]string, error) {
	list, err := p.store.VersionFunctions(ctx, service, version)
	out := map[string]string{}
	for _, f := range list {
		out[f.Function] = f.Digest
	}
	return out, err
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
