package server

import (
	"context"
	"errors"

	"rudmar/engine/store"
	"rudmar/server/api"
)

// summaryOf returns a version in its list form, with its stages.
func summaryOf(v store.Listed, places []store.Stage) api.VersionSummary {
	out := api.VersionSummary{Number: v.Number, Hash: v.Hash, Branch: v.Branch, Author: v.Author,
		Person: v.Person, Message: v.Message,
		CommittedAt: v.CommittedAt.UnixMilli(), BuiltAt: v.BuiltAt.UnixMilli(), Functions: v.Functions,
		Changed: append([]string{}, v.Changed...), Stages: []string{}}
	for _, p := range places {
		if p.Version == v.Number {
			out.Stages = append(out.Stages, p.Stage+" on "+p.Target.String())
		}
	}
	return out
}

// partSize is the number of rows per page of a list.
const partSize = 100

func (h *handlers) ListVersions(ctx context.Context, r api.ListVersionsRequestObject) (api.ListVersionsResponseObject,
	error) {
	versions, err := h.engine.Store.ListVersions(ctx, r.Service, store.Part{
		Before: int64(api.OrZero(r.Params.Before)), Text: api.OrZero(r.Params.Text), Limit: partSize})
	if err != nil {
		return nil, err
	}
	places, err := h.engine.Store.Stages(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	out := api.ListVersions200JSONResponse{}
	for _, v := range versions {
		out = append(out, summaryOf(v, places))
	}
	return out, nil
}

func (h *handlers) GetVersion(ctx context.Context, r api.GetVersionRequestObject) (api.GetVersionResponseObject,
	error) {
	v, err := h.engine.Store.ListVersion(ctx, r.Service, r.Version)
	if err != nil {
		return nil, store.Missing(err, "version %d of %s", r.Version, r.Service)
	}
	places, err := h.engine.Store.Stages(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	out := api.VersionDetail{Functions: []api.VersionFunction{}, Version: summaryOf(v, places)}
	functions, err := h.engine.Store.VersionFunctions(ctx, r.Service, r.Version)
	if err != nil {
		return nil, err
	}
	for _, f := range functions {
		a, err := h.engine.Store.Artifact(ctx, f.Digest)
		if err != nil {
			return nil, err
		}
		fn := api.VersionFunction{Function: f.Function, Digest: f.Digest, FileSha256: a.FileSHA256,
			Bytes: a.Bytes, Changed: f.Changed}
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

func (h *handlers) GetArchiveFile(ctx context.Context,
	r api.GetArchiveFileRequestObject) (api.GetArchiveFileResponseObject, error) {
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
	return nil, store.Missing(store.ErrNotFound, "file %s of %s in version %d", r.Params.Path, r.Function, r.Version)
}
