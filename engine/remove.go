package engine

import (
	"context"
	"fmt"
	"slices"

	"rudmar/core/language"
	"rudmar/engine/store"
)

// RemoveService takes a service off the list: its versions and its journal stay.
// What still runs has to be taken away before, by a version of a commit without
// it; until then the error is store.ErrInUse and says so.
func (e *Engine) RemoveService(ctx context.Context, service, by string) error {
	standing, err := e.Store.Standing(ctx, service)
	if err != nil {
		return err
	}
	if len(standing) > 0 {
		return fmt.Errorf("%s runs in %s: %w; delete its folder in a commit, let that version through its stages, which shows what is lost, and remove it then", service, language.FormatCount(len(standing), "stage"), store.ErrInUse)
	}
	return e.Store.RemoveService(ctx, service, by)
}

// MovingMeans says in sentences what it means to give a service to another
// repository.
func (e *Engine) MovingMeans(ctx context.Context, service, repository string) ([]string, error) {
	s, err := e.Store.Service(ctx, service)
	if err != nil {
		return nil, fmt.Errorf("the service %s: %w", service, err)
	}
	names, err := e.Store.Repositories(ctx)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(names, repository) {
		return nil, fmt.Errorf("the repository %s: %w", repository, store.ErrNotFound)
	}
	if s.Repository == repository {
		return nil, fmt.Errorf("the service %s is in %s already: %w", service, repository, store.ErrMoved)
	}
	return []string{
		fmt.Sprintf("pushes to %s are no longer built for %s, and those that hold it are refused", s.Repository, service),
		fmt.Sprintf("whoever may push to %s makes its versions from now on", repository),
		"what runs in its stages stays as it is until a version from there comes in, by the rules that stand in each stage",
		"everybody who pushed to " + repository + " what is new to a stage counts as its author",
	}, nil
}

// MoveService gives a service to another repository, and builds what stands there.
func (e *Engine) MoveService(ctx context.Context, service, repository, by string) error {
	if err := e.Store.MoveService(ctx, service, repository, by); err != nil {
		return fmt.Errorf("moving %s: %w", service, err)
	}
	return e.Build.Pushed(ctx, repository, by)
}
