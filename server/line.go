package server

import (
	"context"
	"errors"
	"maps"
	"slices"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/rights"
	"rudmar/engine/deliver"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/server/api"
	"rudmar/server/view"
)

// facts collects the inputs of a service's pages, without gates, records and versions behind, for which there
// are withGates and withRecords.
func (h *handlers) facts(ctx context.Context, name string) (*view.Facts, error) {
	f := &view.Facts{}
	var err error
	if f.Service, err = h.engine.Store.Service(ctx, name); err != nil {
		return nil, store.Missing(err, "service %s", name)
	}
	repo := h.engine.Host.Repository(f.Service.Repository)
	if f.Branch, err = repo.Main(ctx); err != nil {
		return nil, err
	}
	heads, err := h.engine.Store.Heads(ctx, f.Service.Repository)
	if err != nil {
		return nil, err
	}
	if f.Head, err = h.commit(ctx, repo, heads[f.Branch]); err != nil {
		return nil, err
	}
	deliveries, err := h.engine.Store.CurrentDeliveries(ctx, name)
	if err != nil {
		return nil, err
	}
	for _, d := range deliveries {
		f.Deliveries = append(f.Deliveries, view.Delivery{Delivery: d})
	}
	if err := h.manifests(ctx, f); err != nil {
		return nil, err
	}
	if f.Places, err = h.engine.Store.Stages(ctx, name); err != nil {
		return nil, err
	}
	if f.Build, err = h.engine.Store.LatestBuild(ctx, name); err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	shifts, err := h.engine.Store.ActiveShifts(ctx, name)
	if err != nil {
		return nil, err
	}
	f.Shifts = map[string]store.Shift{}
	for _, v := range shifts {
		f.Shifts[v.Stage] = v
	}
	f.Looks, err = h.engine.Watch.Observations(ctx, name)
	return f, err
}

// commit returns a commit by its hash, which never changes; the zero commit if there is none.
func (h *handlers) commit(ctx context.Context, repo source.Repository, hash string) (source.Commit, error) {
	if known, ok := h.commits.Get(hash); ok || hash == "" {
		return known, nil
	}
	c, err := repo.Commit(ctx, hash)
	switch {
	case errors.Is(err, source.ErrNoCommit):
		return source.Commit{}, nil
	case err != nil:
		return source.Commit{}, err
	}
	h.commits.Add(hash, c)
	return c, nil
}

// manifests adds those of the newest version, and the standing rules of stages that it does not declare.
func (h *handlers) manifests(ctx context.Context, f *view.Facts) error {
	name := f.Service.Name
	var err error
	if f.Newest, err = h.engine.Store.NewestVersion(ctx, name); err != nil {
		return err
	}
	if f.Newest > 0 {
		newest := f.Newest
		if len(f.Deliveries) > 0 {
			newest = f.Deliveries[0].Version // a redelivered version can have a lower number
		}
		if f.Manifests, _, err = h.engine.Planner.Service(ctx, name, newest); err != nil {
			return err
		}
	} else if f.Head.Hash != "" {
		repo := h.engine.Host.Repository(f.Service.Repository)
		checked, err := repo.Check(ctx, h.engine.Checks.Offers(ctx), f.Head.Hash, f.Service.Dir)
		if err != nil {
			return err
		}
		f.Manifests = checked.Result.Service
	}
	f.Undeclared, err = h.engine.Planner.Undeclared(ctx, name, f.Manifests)
	return err
}

// withGates adds how the gates of waiting versions were judged last.
func (h *handlers) withGates(ctx context.Context, f *view.Facts) error {
	judged, err := h.engine.Line.GateResults(ctx, f.Service.Name, 0)
	for i, d := range f.Deliveries {
		if f.Awaits(d.Delivery) {
			j := judged[deliver.Key{Version: d.Version, Stage: d.Stage}]
			f.Deliveries[i].Gates, f.Deliveries[i].Blockers = j.Gates, j.Stops
		}
	}
	return err
}

// withRecords adds the resources of each place, and the versions behind.
func (h *handlers) withRecords(ctx context.Context, f *view.Facts) error {
	f.Left = map[string][]string{}
	f.Records, f.Behind = map[manifest.Place][]store.FunctionStatus{}, map[string]map[string]int{}
	changed := map[int]map[string]int{} // by version, its differences from the previous one
	for _, stage := range f.Stages() {
		there, _ := f.VersionIn(stage.Name)
		var err error
		if changed[there] == nil {
			if changed[there], err = h.engine.Store.ChangedAfter(ctx, f.Service.Name, there); err != nil {
				return err
			}
		}
		f.Behind[stage.Name] = changed[there]
		if err := h.withLeftOut(ctx, f, stage.Name); err != nil {
			return err
		}
		for _, t := range stage.Targets {
			at := manifest.Place{Service: f.Service.Name, Stage: stage.Name, Target: t}
			if f.Records[at], err = h.engine.Store.FunctionsAt(ctx, at); err != nil {
				return err
			}
		}
	}
	return nil
}

// withLeftOut adds the functions that stayed at another version in a stage, and how far behind they are.
func (h *handlers) withLeftOut(ctx context.Context, f *view.Facts, stage string) error {
	there := f.Current(stage)
	if there == nil || there.Choice == nil {
		return nil
	}
	left, err := h.engine.Line.Excluded(ctx, there.Delivery)
	if err != nil {
		return err
	}
	f.Left[stage], f.Behind[stage] = left, maps.Clone(f.Behind[stage])
	for _, fn := range left {
		changed, err := h.engine.Store.ChangedAfter(ctx, f.Service.Name, there.Choice.Kept[fn])
		if err != nil {
			return err
		}
		f.Behind[stage][fn] = changed[fn]
	}
	return nil
}

// withSecrets adds which secrets were set since something was last deployed.
func (h *handlers) withSecrets(ctx context.Context, f *view.Facts) error {
	f.Turned = map[manifest.Place][]view.Turned{}
	deployed, err := h.engine.Store.DeployedAt(ctx, f.Service.Name)
	if err != nil || f.Manifests == nil {
		return err
	}
	kept := map[string][]store.Sealed{}
	for _, p := range f.Places {
		if p.Version == 0 {
			continue
		}
		if kept[p.Stage] == nil {
			if kept[p.Stage], err = h.engine.Store.Secrets(ctx, f.Service.Name, p.Stage); err != nil {
				return err
			}
		}
		var there []store.FunctionStatus
		if len(kept[p.Stage]) > 0 {
			if there, err = h.engine.Store.FunctionsAt(ctx, p.Place); err != nil {
				return err
			}
		}
		for _, secret := range kept[p.Stage] {
			users := slices.DeleteFunc(usersOf(f.Manifests, p.Stage, secret.Name), func(name string) bool {
				return !slices.ContainsFunc(there, func(s store.FunctionStatus) bool { return s.Function == name && s.Version > 0 })
			})
			if secret.At.After(deployed[p.Place]) && len(users) > 0 {
				f.Turned[p.Place] = append(f.Turned[p.Place], view.Turned{Name: secret.Name, Functions: users})
			}
		}
	}
	return nil
}

func (h *handlers) GetStageLine(ctx context.Context,
	r api.GetStageLineRequestObject) (api.GetStageLineResponseObject, error) {
	f, err := h.facts(ctx, r.Service)
	if err == nil {
		err = h.withGates(ctx, f)
	}
	if err != nil {
		return nil, err
	}
	out := view.StageLine(f)
	for i := range out.Stages {
		if may(ctx, rights.Deploy, r.Service, out.Stages[i].Stage) != nil {
			out.Stages[i].Before = nil
		}
	}
	out.Simulated, out.Running = h.options.Simulated, []api.Deployment{}
	running, err := h.engine.Store.RunningDeployments(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range running {
		out.Running = append(out.Running, deploymentOf(d))
	}
	return api.GetStageLine200JSONResponse(out), nil
}

func (h *handlers) GetBoard(ctx context.Context, r api.GetBoardRequestObject) (api.GetBoardResponseObject, error) {
	f, err := h.facts(ctx, r.Service)
	if err == nil {
		err = errors.Join(h.withGates(ctx, f), h.withRecords(ctx, f), h.withSecrets(ctx, f))
	}
	if err != nil {
		return nil, err
	}
	out := view.Board(f)
	out.Attention = slices.DeleteFunc(out.Attention, func(n api.AttentionItem) bool { return !h.canAct(ctx, f, n) })
	return api.GetBoard200JSONResponse(out), nil
}

// canAct reports whether the signed-in user can do something about an item that needs attention.
func (h *handlers) canAct(ctx context.Context, f *view.Facts, n api.AttentionItem) bool {
	stage := api.OrZero(n.Stage)
	any := func(permissions ...rights.Permission) bool {
		return slices.ContainsFunc(permissions, func(p rights.Permission) bool {
			return may(ctx, p, f.Service.Name, stage) == nil
		})
	}
	switch n.Kind {
	case api.AttentionItemKindApproval:
		for _, d := range f.Deliveries {
			if d.Stage == stage && n.Version != nil && d.Version == *n.Version {
				return h.canAdmit(ctx, d)
			}
		}
		return false
	case api.AttentionItemKindBuild:
		return any(rights.Write)
	case api.AttentionItemKindIncomplete:
		return any(rights.Request)
	case api.AttentionItemKindSecret:
		return any(rights.Deploy, rights.Request)
	case api.AttentionItemKindPlatform:
		return any(rights.Deploy, rights.Administer)
	}
	return any(rights.Write, rights.Deploy, rights.SetSecrets) // a failure is fixed by code, configuration or a retry
}

// canAdmit reports whether the signed-in user can request a waiting version, or give an approval that counts.
func (h *handlers) canAdmit(ctx context.Context, d view.Delivery) bool {
	person := who(ctx).person
	for _, g := range d.Gates {
		if g.State != delivery.GateWaiting {
			continue
		}
		if g.Kind == delivery.RequestGate && may(ctx, rights.Request, d.Service, d.Stage) == nil {
			return true
		}
		if g.Kind == delivery.ApprovalsGate && h.engine.Line.CanApprove(ctx, d.Delivery, person) == nil {
			return true
		}
	}
	return false
}
