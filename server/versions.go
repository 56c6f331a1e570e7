package server

import (
	"context"
	"errors"
	"fmt"

	"rudmar/engine/store"
	"rudmar/server/api"
)

func (h *handlers) versionSummary(ctx context.Context, v store.Version, places []store.Stage) (api.VersionSummary, error) {
	functions, err := h.engine.Store.VersionFunctions(ctx, v.Service, v.Number)
	if err != nil {
		return api.VersionSummary{}, err
	}
	out := api.VersionSummary{Number: v.Number, Hash: v.Hash, Branch: v.Branch, Author: v.Author, Person: v.Person, Message: v.Message,
		CommittedAt: v.CommittedAt.UnixMilli(), BuiltAt: v.BuiltAt.UnixMilli(), Functions: len(functions), Changed: []string{}, Stages: []string{}}
	for _, f := range functions {
		if f.Changed {
			out.Changed = append(out.Changed, f.Function)
		}
	}
	for _, p := range places {
		if p.Version == v.Number {
			out.Stages = append(out.Stages, p.Stage+" on "+p.Target.String())
		}
	}
	return out, nil
}

func (h *handlers) ListVersions(ctx context.Context, r api.ListVersionsRequestObject) (api.ListVersionsResponseObject, error) {
	versions, err := h.engine.Store.Versions(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	places, err := h.engine.Store.Stages(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	out := api.ListVersions200JSONResponse{}
	for _, v := range versions {
		summary, err := h.versionSummary(ctx, v, places)
		if err != nil {
			return nil, err
		}
		out = append(out, summary)
	}
	return out, nil
}

func (h *handlers) GetVersion(ctx context.Context, r api.GetVersionRequestObject) (api.GetVersionResponseObject, error) {
	v, err := h.engine.Store.Version(ctx, r.Service, r.Version)
	if err != nil {
		return nil, fmt.Errorf("version %d of %s: %w", r.Version, r.Service, err)
	}
	places, err := h.engine.Store.Stages(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	out := api.VersionDetail{Functions: []api.VersionFunction{}}
	if out.Version, err = h.versionSummary(ctx, v, places); err != nil {
		return nil, err
	}
	functions, err := h.engine.Store.VersionFunctions(ctx, r.Service, r.Version)
	if err != nil {
		return nil, err
	}
	for _, f := range functions {
		a, err := h.engine.Store.Artifact(ctx, f.Digest)
		if err != nil {
			return nil, err
		}
		fn := api.VersionFunction{Function: f.Function, Digest: f.Digest, FileSha256: a.FileSHA256, Bytes: a.Bytes, Changed: f.Changed}
		if fn.Files, err = convert[[]api.ArchiveFile](a.Listing); err != nil {
			return nil, err
		}
		out.Functions = append(out.Functions, fn)
	}
	b, err := h.engine.Store.BuildOf(ctx, r.Service, r.Version)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	out.Log = b.Log
	return api.GetVersion200JSONResponse(out), nil
}

func (h *handlers) GetArchiveFile(ctx context.Context, r api.GetArchiveFileRequestObject) (api.GetArchiveFileResponseObject, error) {
	functions, err := h.engine.Store.VersionFunctions(ctx, r.Service, r.Version)
	if err != nil {
		return nil, err
	}
	for _, f := range functions {
		if f.Function != r.Function {
			continue
		}
		_, entries, err := h.engine.Build.Archive(f.Digest)
		if err != nil {
			return nil, err
		}
		for _, e := range entries {
			if e.Path == r.Params.Path {
				return api.GetArchiveFile200JSONResponse(fileText(e.Path, e.Content)), nil
			}
		}
	}
	return nil, fmt.Errorf("%s in version %d of %s: %w", r.Params.Path, r.Version, r.Function, store.ErrNotFound)
}
