package server

import (
	"context"
	"sort"
	"strings"

	"rudmar/core/manifest"
	"rudmar/core/resource"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// ListOutputs returns the outputs of a stage on all its targets.
func (h *handlers) ListOutputs(ctx context.Context,
	r api.ListOutputsRequestObject) (api.ListOutputsResponseObject, error) {
	places, err := h.engine.Store.Stages(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	out, there := api.ListOutputs200JSONResponse{}, false
	for _, p := range places {
		if p.Stage != r.Params.Stage {
			continue
		}
		there = true
		given, err := h.stageOutputs(ctx, p.Place)
		if err != nil {
			return nil, err
		}
		out = append(out, given...)
	}
	if !there {
		return nil, store.NotFound("nothing of %s is deployed in %s", r.Service, r.Params.Stage)
	}
	return out, nil
}

// outputs returns the outputs of a deployment: route URLs, IDs and log stores.
func (h *handlers) outputs(ctx context.Context, p manifest.Place) ([]api.Output, error) {
	given, err := h.stageOutputs(ctx, p)
	out := []api.Output{}
	for _, g := range given {
		out = append(out, api.Output{Function: g.Function, Name: g.Name, Value: g.Value, Note: g.Note})
	}
	return out, err
}

// stageOutputs returns the outputs of a place, by address and name.
func (h *handlers) stageOutputs(ctx context.Context, p manifest.Place) ([]api.StageOutput, error) {
	record, err := h.engine.Store.Record(ctx, p)
	if err != nil {
		return nil, err
	}
	to := map[string]string{}
	for _, r := range record {
		if r.Kind == resource.Opening {
			to[strings.TrimPrefix(r.Address, resource.Opening+"/")] = words(r.Attributes["to"])
		}
	}
	out := []api.StageOutput{}
	for _, r := range record {
		names := make([]string, 0, len(r.Platform))
		for name := range r.Platform {
			names = append(names, name)
		}
		sort.Strings(names)
		for _, name := range names {
			o := api.StageOutput{Target: p.Target.String(), Address: r.Address, Function: r.Function, Name: name,
				Value: textOf(r.Platform[name])}
			if r.Kind == resource.Route {
				o.Name = textOf(r.Attributes["method"])
				o.Note = api.Optional("open to " + to[strings.TrimPrefix(r.Address, resource.Route+"/")])
			} else {
				o.Name = r.Kind
			}
			out = append(out, o)
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Note != nil && out[j].Note == nil })
	return out, nil
}
