package server

import (
	"bytes"
	"context"
	"errors"
	"slices"
	"sort"
	"unicode/utf8"

	"rudmar/core/diagnostic"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/engine"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/server/api"
	"rudmar/server/view"
	"rudmar/starter"
)

// shownBytes is the most of a file that the page shows.
const shownBytes = 1 << 20

func (h *handlers) branch(ctx context.Context, service string, wanted *string) (string, error) {
	if wanted != nil && *wanted != "" {
		return *wanted, nil
	}
	s, err := h.engine.Store.Service(ctx, service)
	if err != nil {
		return "", store.Missing(err, "service %s", service)
	}
	return h.engine.Host.Repository(s.Repository).Main(ctx)
}

func (h *handlers) GetSource(ctx context.Context, r api.GetSourceRequestObject) (api.GetSourceResponseObject, error) {
	branch, err := h.branch(ctx, r.Service, r.Params.Branch)
	if err != nil {
		return nil, err
	}
	commit, folder, err := h.engine.Source(ctx, r.Service, branch)
	if err != nil {
		return nil, err
	}
	s, err := h.engine.Store.Service(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	repo := h.engine.Host.Repository(s.Repository)
	heads, err := repo.Heads(ctx)
	if err != nil {
		return nil, err
	}
	history, err := repo.History(ctx, commit.Hash, "", 30)
	if err != nil {
		return nil, err
	}
	result := h.engine.Checks.Check(ctx, r.Service, folder)
	out := api.Source{Runtimes: starter.Runtimes(), Branch: branch, Branches: []string{},
		Head: view.Head(commit, branch), Dir: s.Dir, Files: []api.SourceFile{}, History: []api.SourceHead{}}
	if out.Diagnostics, err = convert[[]api.Diagnostic](append([]diagnostic.Diagnostic{},
		result.Diagnostics...)); err != nil {
		return nil, err
	}
	for name := range heads {
		out.Branches = append(out.Branches, name)
	}
	sort.Strings(out.Branches)
	problems := map[string]int{}
	for _, d := range result.Diagnostics {
		problems[d.File]++
	}
	for _, f := range folder.Listed() {
		out.Files = append(out.Files, api.SourceFile{Path: f.Path, Size: f.Size, Blob: f.Blob,
			Problems: problems[f.Path]})
	}
	for _, c := range history {
		out.History = append(out.History, view.Head(c, branch))
	}
	out.Tracked = result.Service == nil || slices.ContainsFunc(result.Service.Stages, func(st manifest.Stage) bool {
		return st.When == manifest.OnPush && st.Branch == branch
	})
	return api.GetSource200JSONResponse(out), nil
}

func fileText(name string, content []byte) api.FileText {
	if len(content) > shownBytes || !utf8.Valid(content) || bytes.IndexByte(content, 0) >= 0 {
		return api.FileText{Path: name, Binary: true}
	}
	return api.FileText{Path: name, Text: string(content)}
}

func (h *handlers) GetFile(ctx context.Context, r api.GetFileRequestObject) (api.GetFileResponseObject, error) {
	branch, err := h.branch(ctx, r.Service, r.Params.Branch)
	if err != nil {
		return nil, err
	}
	_, folder, err := h.engine.Source(ctx, r.Service, branch)
	if r.Params.Commit != nil && err == nil {
		folder, err = h.folderAt(ctx, r.Service, *r.Params.Commit)
	}
	if err != nil {
		return nil, err
	}
	if !slices.Contains(folder.Files(), r.Params.Path) {
		return nil, store.Missing(store.ErrNotFound, "file %s on %s", r.Params.Path, branch)
	}
	content, err := folder.Read(r.Params.Path)
	if err != nil {
		return nil, err
	}
	return api.GetFile200JSONResponse(fileText(r.Params.Path, content)), nil
}

func changedFiles(files map[string]*string) map[string][]byte {
	out := map[string][]byte{}
	for name, text := range files {
		out[name] = nil
		if text != nil {
			out[name] = []byte(*text)
		}
	}
	return out
}

func (h *handlers) CommitSource(ctx context.Context, r api.CommitSourceRequestObject) (api.CommitSourceResponseObject,
	error) {
	person := who(ctx).person
	if len(r.Body.Files) == 0 {
		return nil, badRequest("nothing was changed, so there is nothing to commit")
	}
	hash, err := h.engine.Commit(ctx,
		engine.Edit{Onto: api.OrZero(r.Body.NewBranch), Service: r.Service, Branch: r.Body.Branch, Base: r.Body.Base,
			Message: r.Body.Message, Files: changedFiles(r.Body.Files)}, person)
	if errors.Is(err, engine.ErrBranchThere) || errors.Is(err, source.ErrMarkers) {
		return nil, badRequest(err.Error())
	}
	var conflict *engine.ConflictError
	if errors.As(err, &conflict) {
		return api.CommitSource409JSONResponse{Head: conflict.Head, By: conflict.By, Files: conflict.Files,
			Theirs: conflict.Theirs, Merged: conflict.Merged, Conflicts: append([]string{}, conflict.Conflicts...),
			Detail: conflict.Error()}, nil
	}
	if err != nil {
		return nil, err
	}
	return api.CommitSource201JSONResponse{Hash: hash}, nil
}

func (h *handlers) GetStarter(_ context.Context, r api.GetStarterRequestObject) (api.GetStarterResponseObject, error) {
	files, err := starter.Function(r.Params.Name, r.Params.Runtime)
	if err != nil {
		return nil, badRequest(err.Error())
	}
	return api.GetStarter200JSONResponse(files), nil
}

func (h *handlers) GetSchema(_ context.Context, r api.GetSchemaRequestObject) (api.GetSchemaResponseObject, error) {
	file := map[string]string{"service": language.ServiceFile, "function": language.FunctionFile,
		"case": language.CasesFolder}[r.File]
	return api.GetSchema200JSONResponse(language.New().Schema(file)), nil
}
