package engine

import (
	"context"
	"errors"
	"time"

	"rudmar/engine/store"
)

// reconcileEvery is the interval of reconcileLoop.
const reconcileEvery = time.Minute

// reconcileLoop finds missed work, at the start and every minute, until the context ends: moved branches, and
// versions without deliveries. Other loops find unfinished builds, and deployments without a runner.
func (e *Engine) reconcileLoop(ctx context.Context) {
	tick := time.NewTicker(reconcileEvery)
	defer tick.Stop()
	for {
		e.reconcile(ctx)
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// reconcile is one round of reconcileLoop. An error in one repository or service does not affect others.
func (e *Engine) reconcile(ctx context.Context) {
	tell := func(what, name string, err error) {
		if err != nil && ctx.Err() == nil {
			e.log.Error(what, "name", name, "error", err)
		}
	}
	repositories, err := e.Store.Repositories(ctx)
	tell("listing the repositories", "", err)
	for _, name := range repositories {
		tell("checking a repository", name, errors.Join(e.Host.Create(ctx, name), e.Build.Pushed(ctx, name, "")))
	}
	services, err := e.Store.Services(ctx)
	tell("listing the services", "", err)
	for _, s := range services {
		tell("checking for undelivered versions", s.Name, e.deliverRemaining(ctx, s))
	}
}

// deliverRemaining creates the missing deliveries of a service's versions, oldest version first.
func (e *Engine) deliverRemaining(ctx context.Context, s store.Service) error {
	left, err := e.Store.Undelivered(ctx, s.Name)
	if err != nil {
		return err
	}
	var errs error
	for i := len(left) - 1; i >= 0; i-- {
		own, _, err := e.Planner.Service(ctx, s.Name, left[i])
		if err != nil {
			errs = errors.Join(errs, err)
			continue
		}
		enters, removes, err := e.Planner.Stages(ctx, s.Name, own)
		if err == nil && len(enters)+len(removes) > 0 {
			err = e.Store.StartDelivery(ctx, s.Name, left[i], enters, removes)
		}
		errs = errors.Join(errs, err)
	}
	return errs
}
