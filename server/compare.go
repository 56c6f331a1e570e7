package server

import (
	"context"
	"reflect"
	"slices"
	"sort"
	"strings"

	"rudmar/core/check"
	"rudmar/core/expand"
	"rudmar/core/manifest"
	"rudmar/engine/store"
	"rudmar/server/api"
)

func (h *handlers) CompareVersions(ctx context.Context,
	r api.CompareVersionsRequestObject) (api.CompareVersionsResponseObject, error) {
	then, err := h.side(ctx, r.Service, r.Version)
	if err != nil {
		return nil, err
	}
	now, err := h.side(ctx, r.Service, r.Other)
	if err != nil {
		return nil, err
	}
	resources := changedResources(then, now)
	if len(now.service.Stages) > 0 {
		_, units, err := h.inputs(ctx, r.Service, check.Result{Service: now.service}, now.service.Stages[0].Name)
		if err != nil {
			return nil, err
		}
		for i := range resources {
			kind, _, _ := strings.Cut(resources[i].Address, "/")
			for j := range resources[i].Attributes {
				a := &resources[i].Attributes[j]
				a.Unit = api.Optional(units[kind+"."+a.Name])
			}
		}
	}
	return api.CompareVersions200JSONResponse{From: then.summary, To: now.summary,
		Manifests: changedManifests(then.version.Manifests, now.version.Manifests),
		Files:     changedFilesOf(then.files, now.files), Resources: resources}, nil
}

// side is one version of a comparison.
type side struct {
	version   store.Version
	summary   api.VersionSummary
	service   *manifest.Service
	artifacts map[string]string
	files     map[[2]string]api.ArchiveFile // by function and path
}

func (h *handlers) side(ctx context.Context, service string, number int) (*side, error) {
	s := &side{artifacts: map[string]string{}, files: map[[2]string]api.ArchiveFile{}}
	var err error
	if s.service, s.version, err = h.engine.Planner.Service(ctx, service, number); err != nil {
		return nil, err
	}
	listed, err := h.engine.Store.ListVersion(ctx, service, number)
	if err != nil {
		return nil, err
	}
	s.summary = summaryOf(listed, nil)
	functions, err := h.engine.Store.VersionFunctions(ctx, service, number)
	if err != nil {
		return nil, err
	}
	for _, f := range functions {
		s.artifacts[f.Function] = f.Digest
		a, err := h.engine.Store.Artifact(ctx, f.Digest)
		if err != nil {
			return nil, err
		}
		files, err := convert[[]api.ArchiveFile](a.Listing)
		if err != nil {
			return nil, err
		}
		for _, file := range files {
			s.files[[2]string{f.Function, file.Path}] = file
		}
	}
	return s, nil
}

func changedManifests(then, now map[string]string) []api.FileChange {
	out := []api.FileChange{}
	for name, text := range now {
		before, there := then[name]
		switch {
		case !there:
			out = append(out, api.FileChange{Path: name, Change: api.FileChangeChangeCreated, After: &text})
		case before != text:
			out = append(out, api.FileChange{Path: name, Change: api.FileChangeChangeChanged, Before: &before, After: &text})
		}
	}
	for name, text := range then {
		if _, there := now[name]; !there {
			out = append(out, api.FileChange{Path: name, Change: api.FileChangeChangeDeleted, Before: &text})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Path < out[j].Path })
	return out
}

func changedFilesOf(then, now map[[2]string]api.ArchiveFile) []api.FileChange {
	out := []api.FileChange{}
	for at, file := range now {
		before, there := then[at]
		if there && before.Sha256 == file.Sha256 && before.Mode == file.Mode {
			continue
		}
		c := api.FileChange{Function: &at[0], Path: at[1], Change: api.FileChangeChangeCreated, BytesAfter: &file.Size}
		if there {
			c.Change, c.BytesBefore = api.FileChangeChangeChanged, &before.Size
		}
		out = append(out, c)
	}
	for at, file := range then {
		if _, there := now[at]; !there {
			out = append(out, api.FileChange{Function: &at[0], Path: at[1], Change: api.FileChangeChangeDeleted,
				BytesBefore: &file.Size})
		}
	}
	sort.Slice(out, func(i, j int) bool { return *out[i].Function+"/"+out[i].Path < *out[j].Function+"/"+out[j].Path })
	return out
}

// changedResources compares the resources of two versions, in every stage of either and on each of its targets.
// Secrets are represented by their names.
func changedResources(then, now *side) []api.ResourceChange {
	out := []api.ResourceChange{}
	var places []manifest.Place
	for _, s := range []*side{now, then} {
		for _, stage := range s.service.Stages {
			for _, target := range stage.Targets {
				if p := (manifest.Place{Service: now.service.Name, Stage: stage.Name, Target: target}); !slices.Contains(places,
					p) {
					places = append(places, p)
				}
			}
		}
	}
	for _, p := range places {
		before, after := then.become(p), now.become(p)
		for _, c := range resourceChanges(before, after) {
			c.Stage, c.Target = p.Stage, p.Target.String()
			out = append(out, c)
		}
	}
	return out
}

func (s *side) become(p manifest.Place) map[string]expand.Resource {
	out := map[string]expand.Resource{}
	at := s.service.Stage(p.Stage)
	if at == nil || !slices.Contains(at.Targets, p.Target) {
		return out
	}
	in := expand.Inputs{Version: s.version.Number, Artifacts: s.artifacts, Secrets: expand.SecretNames(s.service)}
	resources, _ := expand.Expand(s.service, at, p.Target, in)
	for _, r := range resources {
		out[r.Address] = r
	}
	return out
}

func resourceChanges(then, now map[string]expand.Resource) []api.ResourceChange {
	var out []api.ResourceChange
	for address, r := range now {
		before, there := then[address]
		c := api.ResourceChange{Address: address, Change: api.ResourceChangeChangeCreated}
		if there {
			c.Change = api.ResourceChangeChangeChanged
		}
		values := before.Values()
		for _, a := range r.Attributes {
			if old := values[a.Name]; !reflect.DeepEqual(old, a.Value) {
				c.Attributes = append(c.Attributes, api.ValueChange{Name: a.Name, Before: old, After: a.Value})
			}
			delete(values, a.Name)
		}
		for name, old := range values {
			c.Attributes = append(c.Attributes, api.ValueChange{Name: name, Before: old})
		}
		if !there || len(c.Attributes) > 0 {
			out = append(out, c)
		}
	}
	for address := range then {
		if _, there := now[address]; !there {
			out = append(out, api.ResourceChange{Address: address, Change: api.ResourceChangeChangeDeleted,
				Attributes: []api.ValueChange{}})
		}
	}
	sort.Slice(out, func(i, j int) bool { return strings.Compare(out[i].Address, out[j].Address) < 0 })
	return out
}
