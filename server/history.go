package server

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"

	"rudmar/core/author"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/server/api"

	"golang.org/x/sync/errgroup"
)

// shownCommits is how many commits of a file are listed.
const shownCommits = 50

// folderAt returns a service's folder at a commit.
func (h *handlers) folderAt(ctx context.Context, service, commit string) (*source.Folder, error) {
	s, err := h.engine.Store.Service(ctx, service)
	if err != nil {
		return nil, store.Missing(err, "service %s", service)
	}
	return h.engine.Host.Repository(s.Repository).Folder(ctx, commit, s.Dir)
}

func fileCommit(c source.Commit) api.FileCommit {
	return api.FileCommit{Hash: c.Hash, Parent: c.Parent, Author: c.Author, Message: c.Message, At: c.At.UnixMilli()}
}

func (h *handlers) GetFileHistory(ctx context.Context,
	r api.GetFileHistoryRequestObject) (api.GetFileHistoryResponseObject, error) {
	branch, err := h.branch(ctx, r.Service, r.Params.Branch)
	if err != nil {
		return nil, err
	}
	s, err := h.engine.Store.Service(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	commits, err := h.engine.Host.Repository(s.Repository).History(ctx, "refs/heads/"+branch,
		path.Join(s.Dir, r.Params.Path), shownCommits)
	if err != nil {
		return nil, err
	}
	out := api.GetFileHistory200JSONResponse{}
	for _, c := range commits {
		out = append(out, fileCommit(c))
	}
	return out, nil
}

func (h *handlers) GetLineAuthors(ctx context.Context,
	r api.GetLineAuthorsRequestObject) (api.GetLineAuthorsResponseObject, error) {
	lines := map[string][]int{}
	for _, place := range r.Params.Place {
		at := strings.LastIndexByte(place, ':')
		n, err := strconv.Atoi(place[at+1:])
		if at < 0 || err != nil || n < 1 {
			return nil, badRequest(fmt.Sprintf("%q is not a location; use file:line", place))
		}
		lines[place[:at]] = append(lines[place[:at]], n)
	}
	commits, err := h.authors(ctx, r.Service, r.Version, lines)
	if err != nil {
		return nil, err
	}
	out := api.GetLineAuthors200JSONResponse{}
	for place, c := range commits {
		out[place] = fileCommit(c)
	}
	return out, nil
}

// authors returns the commits of lines in a version's files, by file:line.
func (h *handlers) authors(ctx context.Context, service string, version int,
	lines map[string][]int) (map[string]source.Commit, error) {
	s, err := h.engine.Store.Service(ctx, service)
	if err != nil {
		return nil, err
	}
	v, err := h.engine.Store.Version(ctx, service, version)
	if err != nil {
		return nil, store.Missing(err, "version %d of %s", version, service)
	}
	folder, err := h.folderAt(ctx, service, v.Hash)
	if err != nil {
		return nil, err
	}
	repository := h.engine.Host.Repository(s.Repository)
	once := map[string]string{}
	if len(lines) > fewFiles {
		if once, err = repository.WrittenOnce(ctx, v.Hash, s.Dir); err != nil {
			return nil, err
		}
	}
	out := map[string]source.Commit{}
	var mu sync.Mutex
	looking, within := errgroup.WithContext(ctx)
	looking.SetLimit(4)
	for file, numbers := range lines {
		name := path.Join(s.Dir, file)
		tell := func(n int, c source.Commit) {
			mu.Lock()
			defer mu.Unlock()
			out[fmt.Sprintf("%s:%d", file, n)] = c
		}
		if hash, ok := once[name]; ok {
			c, err := h.commit(ctx, repository, hash)
			if err != nil {
				return nil, errors.Join(err, looking.Wait())
			}
			for _, n := range numbers {
				tell(n, c)
			}
			continue
		}
		text, err := folder.Read(file)
		if err != nil {
			continue // a reason can be in a file of the previous version
		}
		last := strings.Count(string(text), "\n") + 1
		numbers = slices.DeleteFunc(numbers, func(n int) bool { return n > last })
		if len(numbers) == 0 {
			continue
		}
		looking.Go(func() error {
			found, err := repository.Lines(within, v.Hash, name, numbers)
			for n, c := range found {
				tell(n, c)
			}
			return err
		})
	}
	return out, looking.Wait()
}

// fewFiles is the maximum number of files whose authors git looks up one by one.
const fewFiles = 8

func (h *handlers) RenameFunction(ctx context.Context,
	r api.RenameFunctionRequestObject) (api.RenameFunctionResponseObject, error) {
	over, result, err := h.edited(ctx, r.Service, r.Body.Branch, r.Body.Files)
	if err != nil {
		return nil, err
	}
	if result.Service == nil {
		return nil, badRequest("rudmar.yaml cannot be read; fix it first")
	}
	edits, err := author.Rename(over, result.Service, r.Body.Function, r.Body.To)
	switch {
	case errors.Is(err, author.ErrNoFunction):
		return nil, fmt.Errorf("%w: %w", store.ErrNotFound, err)
	case errors.Is(err, author.ErrNameTaken), errors.Is(err, author.ErrNotName):
		return nil, badRequest(err.Error())
	case err != nil:
		return nil, err
	}
	out := api.RenameFunction200JSONResponse{}
	for name, text := range r.Body.Files {
		out[name] = text
	}
	for name, text := range edits {
		out[name] = nil
		if text != nil {
			now := string(text)
			out[name] = &now
		}
	}
	return out, nil
}
