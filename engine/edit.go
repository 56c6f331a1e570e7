package engine

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"

	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// Edit is a change of a service's files in the page. Names are relative to the service's folder; nil content
// deletes a file.
type Edit struct {
	Service, Branch, Base, Message string
	// Onto is a new branch for the commit; "" for the present branch.
	Onto  string
	Files map[string][]byte
}

// ErrBranchThere reports that a new branch exists already.
var ErrBranchThere = errors.New("this branch already exists; switch to it, or choose another name")

// BrokenError reports that an edit would break a branch that a stage deploys from.
type BrokenError struct{ Diagnostics []diagnostic.Diagnostic }

func (e *BrokenError) Error() string {
	for _, d := range e.Diagnostics {
		if d.Severity == diagnostic.Error {
			return "a stage deploys this branch, and its manifests would have errors: " + d.String()
		}
	}
	return "a stage deploys this branch, and its manifests could not be read"
}

// ConflictError reports that the branch has moved since the edit started, and which of the edited files
// somebody else has changed.
type ConflictError struct {
	Head   string
	By     string
	Files  []string
	Theirs map[string]string
}

func (e *ConflictError) Error() string {
	return fmt.Sprintf("%s committed in the meantime (%s); compare both, and commit again on top", e.By,
		e.Head[:8])
}

// Source returns a service's folder at the head of a branch.
func (e *Engine) Source(ctx context.Context, service, branch string) (source.Commit, *source.Folder, error) {
	s, err := e.Store.Service(ctx, service)
	if err != nil {
		return source.Commit{}, nil, store.Missing(err, "service %s", service)
	}
	repo := e.Host.Repository(s.Repository)
	commit, err := repo.Commit(ctx, "refs/heads/"+branch)
	if err != nil {
		return commit, nil, err
	}
	folder, err := repo.Folder(ctx, commit.Hash, s.Dir)
	return commit, folder, err
}

// Commit commits an edit and processes it like a push. If the branch has moved since the edit's base the error
// is a *ConflictError; if the manifests of a branch that a stage deploys from would break, a *BrokenError.
func (e *Engine) Commit(ctx context.Context, edit Edit, by store.Person) (string, error) {
	s, err := e.Store.Service(ctx, edit.Service)
	if err != nil {
		return "", store.Missing(err, "service %s", edit.Service)
	}
	if err := e.isOwn(ctx, s.Repository); err != nil {
		return "", err
	}
	head, folder, err := e.Source(ctx, edit.Service, edit.Branch)
	if err != nil {
		return "", err
	}
	branch := edit.Branch
	if edit.Onto != "" {
		branch = edit.Onto
	}
	if head.Hash != edit.Base {
		return "", e.conflict(head, folder, edit)
	}
	result := e.Checks.Check(ctx, edit.Service, manifest.Overlay{Under: folder, Changed: edit.Files})
	taken := result.Service == nil ||
		slices.ContainsFunc(result.Service.Stages,
			func(st manifest.Stage) bool { return st.When == manifest.OnPush && st.Branch == branch })
	if taken && !result.OK() {
		return "", &BrokenError{Diagnostics: result.Diagnostics}
	}
	change := source.Change{Branch: branch, New: edit.Onto != "", Base: edit.Base, Message: edit.Message,
		Author: by.Username, Email: by.Username + "@rudmar.invalid", Files: map[string][]byte{}}
	for name, content := range edit.Files {
		change.Files[path.Join(s.Dir, name)] = content
	}
	repo := e.Host.Repository(s.Repository)
	if edit.Onto != "" {
		heads, err := repo.Heads(ctx)
		if err != nil {
			return "", err
		}
		if _, taken := heads[edit.Onto]; taken {
			return "", fmt.Errorf("%w: %s", ErrBranchThere, edit.Onto)
		}
	}
	hash, err := repo.Apply(ctx, change)
	if errors.Is(err, source.ErrConflict) {
		if head, folder, sourceErr := e.Source(ctx, edit.Service, edit.Branch); sourceErr == nil {
			return "", e.conflict(head, folder, edit)
		}
	}
	if err != nil {
		return "", err
	}
	return hash, e.Build.Pushed(ctx, s.Repository, by.Username)
}

func (e *Engine) conflict(head source.Commit, folder *source.Folder, edit Edit) error {
	c := &ConflictError{Head: head.Hash, By: head.Author, Theirs: map[string]string{}}
	for name := range edit.Files {
		c.Files = append(c.Files, name)
		if text, err := folder.Read(name); err == nil {
			c.Theirs[name] = string(text)
		}
	}
	slices.Sort(c.Files)
	return c
}
