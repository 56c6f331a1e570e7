package server

import (
	"context"
	"path"
	"reflect"
	"slices"
	"strings"
	"time"

	"rudmar/core/check"
	"rudmar/core/diagnostic"
	"rudmar/core/expand"
	"rudmar/core/manifest"
	"rudmar/core/resource"
	"rudmar/platform"
	"rudmar/server/api"
)

// shownResources is how many resources are shown beside a file at most.
const shownResources = 120

func (h *handlers) CheckSource(ctx context.Context, r api.CheckSourceRequestObject) (api.CheckSourceResponseObject,
	error) {
	_, folder, err := h.engine.Source(ctx, r.Service, r.Body.Branch)
	if err != nil {
		return nil, err
	}
	// The committed version is first, so the edit is what the cache keeps.
	var committed check.Result
	if len(r.Body.Files) > 0 {
		committed = h.engine.Checks.Check(ctx, r.Service, folder)
	}
	edited := h.engine.Checks.Check(ctx, r.Service, manifest.Overlay{Under: folder, Changed: changedFiles(r.Body.Files)})
	out := api.CheckResult{Rendered: []api.RenderedResource{}, Before: []api.RenderedResource{},
		Effect: api.EditEffect{Created: []string{}, Deleted: []string{}}}
	if out.Diagnostics, err = convert[[]api.Diagnostic](append([]diagnostic.Diagnostic{},
		edited.Diagnostics...)); err != nil {
		return nil, err
	}
	if r.Body.Stage == nil {
		return api.CheckSource200JSONResponse(out), nil
	}
	inputs, units, err := h.inputs(ctx, r.Service, edited, *r.Body.Stage)
	if err != nil {
		return nil, err
	}
	then := h.resources(r.Service, committed, *r.Body.Stage, inputs)
	now := h.resources(r.Service, edited, *r.Body.Stage, inputs)
	var changed map[string]bool
	if len(r.Body.Files) > 0 {
		out.Effect, changed = effect(then, now)
	}
	wanted := functionsOfFile(api.OrZero(r.Body.File), changed, committed.Service, edited.Service)
	beside := resourcesOf(now, wanted)
	out.More = max(0, len(beside)-shownResources)
	if out.Rendered, err = renderedOf(beside, units); err != nil {
		return nil, err
	}
	out.Before, err = renderedOf(resourcesOf(then, wanted), units)
	return api.CheckSource200JSONResponse(out), err
}

// reading is the time limit of a page's request to a platform: without a response it shows what is known.
const reading = 700 * time.Millisecond

// inputs returns a stage's part of the inputs of rendered resources, and the units of attributes by kind and
// name.
func (h *handlers) inputs(ctx context.Context, service string, r check.Result, stage string) (expand.Inputs,
	map[string]string, error) {
	in, units := expand.Inputs{Artifacts: map[string]string{}, Key: h.engine.People.FingerprintKey()}, map[string]string{}
	if r.Service == nil || r.Service.Stage(stage) == nil || len(r.Service.Stage(stage).Targets) == 0 {
		return in, units, nil
	}
	var err error
	if in.Secrets, err = h.engine.People.Secrets(ctx, service, stage); err != nil {
		return in, units, err
	}
	client, scope, err := h.engine.Planner.Platform(manifest.Place{Service: service, Stage: stage,
		Target: r.Service.Stage(stage).Targets[0]})
	if err != nil {
		return in, units, nil // a missing target is reported as a problem
	}
	ctx, cancel := context.WithTimeout(ctx, reading)
	defer cancel()
	if kinds, err := client.Kinds(ctx); err == nil {
		in.Address = platform.RoutesAt(kinds, scope)
		units = platform.Units(kinds.Kinds)
	}
	return in, units, nil
}

// resources returns the resources of a checked service in a stage, on its first target.
func (h *handlers) resources(service string, r check.Result, stage string, in expand.Inputs) []expand.Resource {
	if r.Service == nil {
		return nil
	}
	s := r.Service.Stage(stage)
	if s == nil || len(s.Targets) == 0 {
		return nil
	}
	return h.engine.Checks.Render(service, r.Service, s, s.Targets[0], in)
}

// effect compares resources, sorted by address, with and without an edit. What
// follows from the code is left out: it is known once that is built.
func effect(then, now []expand.Resource) (api.EditEffect, map[string]bool) {
	out, changed := api.EditEffect{Created: []string{}, Deleted: []string{}}, map[string]bool{}
	i := 0
	for j := range now {
		for i < len(then) && then[i].Address < now[j].Address {
			out.Deleted = append(out.Deleted, then[i].Address)
			i++
		}
		if i == len(then) || then[i].Address != now[j].Address {
			out.Created, changed[now[j].Function] = append(out.Created, now[j].Address), true
			continue
		}
		if n := otherValues(&then[i], &now[j]); n > 0 {
			out.Values, changed[now[j].Function] = out.Values+n, true
		}
		i++
	}
	for ; i < len(then); i++ {
		out.Deleted = append(out.Deleted, then[i].Address)
	}
	return out, changed
}

func otherValues(then, now *expand.Resource) int {
	if len(then.Attributes) > 0 && len(now.Attributes) > 0 && &then.Attributes[0] == &now.Attributes[0] ||
		now.Kind == resource.Pointer {
		return 0
	}
	n := 0
	for _, a := range now.Attributes {
		if now.Kind == resource.Revision && a.Name != "configuration" {
			continue
		}
		if !reflect.DeepEqual(a.Value, then.Get(a.Name)) {
			n++
		}
	}
	for _, a := range then.Attributes {
		if now.Get(a.Name) == nil {
			n++
		}
	}
	return n
}

// functionsOfFile returns the functions whose resources are shown next to a file: its own, before or after the edit;
// for a file of the whole service those that an edit changes, or all (nil).
func functionsOfFile(file string, changed map[string]bool, services ...*manifest.Service) map[string]bool {
	wanted := map[string]bool{}
	for _, s := range services {
		if s == nil {
			continue
		}
		for _, fn := range s.Functions {
			if dir := path.Dir(fn.File) + "/"; fn.File == file || dir != "./" && strings.HasPrefix(file, dir) {
				wanted[fn.Name] = true
			}
		}
	}
	if len(wanted) == 0 {
		return changed
	}
	return wanted
}

// resourcesOf returns the resources of some functions; of all if there are none.
func resourcesOf(all []expand.Resource, wanted map[string]bool) []expand.Resource {
	if len(wanted) == 0 {
		return all
	}
	return slices.DeleteFunc(slices.Clone(all), func(r expand.Resource) bool { return !wanted[r.Function] })
}

func renderedOf(resources []expand.Resource, units map[string]string) ([]api.RenderedResource, error) {
	out, err := convert[[]api.RenderedResource](append([]expand.Resource{}, resources[:min(len(resources),
		shownResources)]...))
	for i := range out {
		for j := range out[i].Attributes {
			a := &out[i].Attributes[j]
			a.Unit = api.Optional(units[out[i].Kind+"."+a.Name])
		}
	}
	return out, err
}
