package engine

import (
	"context"
	"fmt"
	"slices"

	"rudmar/core/language"
	"rudmar/engine/store"
)

// DeleteService removes a service from the list: its versions and its journal are kept. Its resources must be
// deleted first, by a version of a commit without it; until then the error is store.ErrInUse and says so.
func (e *Engine) DeleteService(ctx context.Context, service, by string) error {
	standing, err := e.Store.Standing(ctx, service)
	if err != nil {
		return err
	}
	if len(standing) > 0 {
		return fmt.Errorf("%s is deployed in %s: %w; delete its folder in a commit, deliver that version through the stages, which shows the data that is lost, and delete the service then", service, language.FormatCount(len(standing), "stage"), store.ErrInUse)
	}
	return e.Store.DeleteService(ctx, service, by)
}

// MoveImpact describes the effect of moving a service to another repository.
func (e *Engine) MoveImpact(ctx context.Context, service, repository string) ([]string, error) {
	s, err := e.Store.Service(ctx, service)
	if err != nil {
		return nil, store.Missing(err, "service %s", service)
	}
	names, err := e.Store.Repositories(ctx)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(names, repository) {
		return nil, store.Missing(store.ErrNotFound, "repository %s", repository)
	}
	if s.Repository == repository {
		return nil, fmt.Errorf("the service %s is already in %s: %w", service, repository, store.ErrMoved)
	}
	return []string{
		fmt.Sprintf("Pushes to %s are no longer built for %s, and pushes that contain it are refused.", s.Repository, service),
		fmt.Sprintf("Everyone who can push to %s creates its versions from now on.", repository),
		"The deployed resources stay unchanged until a version from there enters, under the standing rules of each stage.",
		"everyone who pushed to " + repository + " commits that are new to a stage counts as an author",
	}, nil
}

// MoveService moves a service to another repository and builds the head there.
func (e *Engine) MoveService(ctx context.Context, service, repository, by string) error {
	if err := e.Store.MoveService(ctx, service, repository, by); err != nil {
		return fmt.Errorf("moving %s: %w", service, err)
	}
	return e.Build.Pushed(ctx, repository, by)
}
