package server

import (
	"context"
	"errors"
	"fmt"

	"rudmar/core/manifest"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/server/api"
	"rudmar/server/view"
)

// facts gathers what the pages of a service are made from; gates, records and
// what is behind are left to withGates and withRecords.
func (h *handlers) facts(ctx context.Context, name string) (*view.Facts, error) {
	f := &view.Facts{}
	var err error
	if f.Service, err = h.engine.Store.Service(ctx, name); err != nil {
		return nil, fmt.Errorf("the service %s: %w", name, err)
	}
	repo := h.engine.Host.Repository(f.Service.Repository)
	if f.Branch, err = repo.Main(ctx); err != nil {
		return nil, err
	}
	if f.Head, err = repo.Commit(ctx, "refs/heads/"+f.Branch); err != nil && !errors.Is(err, source.ErrNoCommit) {
		return nil, err
	}
	versions, err := h.engine.Store.Versions(ctx, name)
	if err != nil {
		return nil, err
	}
	if len(versions) > 0 {
		f.Newest = versions[0].Number
		f.Manifests, _, err = h.engine.Planner.Service(ctx, name, f.Newest)
	} else if f.Head.Hash != "" {
		var checked source.Checked
		checked, err = repo.Check(ctx, h.engine.Checks.Offers(ctx), f.Head.Hash, f.Service.Dir)
		f.Manifests = checked.Result.Service
	}
	if err != nil {
		return nil, err
	}
	if f.Places, err = h.engine.Store.Stages(ctx, name); err != nil {
		return nil, err
	}
	deliveries, err := h.engine.Store.Deliveries(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, d := range deliveries {
		f.Deliveries = append(f.Deliveries, view.Delivery{Delivery: d})
	}
	if f.Build, err = h.engine.Store.LatestBuild(ctx, name); err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	f.Looks, err = h.engine.Watch.Looks(ctx, name)
	return f, err
}

// withGates adds how the gates of waiting versions stand.
func (h *handlers) withGates(ctx context.Context, f *view.Facts) error {
	for i, d := range f.Deliveries {
		if !f.Awaits(d.Delivery) || f.Manifests == nil || f.Manifests.Stage(d.Stage) == nil {
			continue
		}
		var err error
		if f.Deliveries[i].Gates, err = h.engine.Line.Gates(ctx, d.Delivery); err != nil {
			return err
		}
	}
	return nil
}

// withRecords adds what was put in each place, and what is behind.
func (h *handlers) withRecords(ctx context.Context, f *view.Facts) error {
	f.Records, f.Behind = map[manifest.Place][]store.Recorded{}, map[string]map[string]int{}
	for _, stage := range f.Stages() {
		there, _ := f.VersionIn(stage.Name)
		var err error
		if f.Behind[stage.Name], err = h.engine.Store.ChangedAfter(ctx, f.Service.Name, there); err != nil {
			return err
		}
		for _, t := range stage.Targets {
			at := manifest.Place{Service: f.Service.Name, Stage: stage.Name, Target: t}
			if f.Records[at], err = h.engine.Store.Record(ctx, at); err != nil {
				return err
			}
		}
	}
	return nil
}

func (h *handlers) GetLine(ctx context.Context, r api.GetLineRequestObject) (api.GetLineResponseObject, error) {
	f, err := h.facts(ctx, r.Service)
	if err == nil {
		err = h.withGates(ctx, f)
	}
	if err != nil {
		return nil, err
	}
	out := view.Line(f)
	out.Simulated, out.Running = h.options.Simulated, []api.Deployment{}
	running, err := h.engine.Store.RunningDeployments(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range running {
		out.Running = append(out.Running, deploymentOf(d))
	}
	return api.GetLine200JSONResponse(out), nil
}

func (h *handlers) GetBoard(ctx context.Context, r api.GetBoardRequestObject) (api.GetBoardResponseObject, error) {
	f, err := h.facts(ctx, r.Service)
	if err == nil {
		err = errors.Join(h.withGates(ctx, f), h.withRecords(ctx, f))
	}
	if err != nil {
		return nil, err
	}
	return api.GetBoard200JSONResponse(view.Board(f)), nil
}
