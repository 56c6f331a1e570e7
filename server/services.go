package server

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"rudmar/core/rights"
	"rudmar/server/api"
)

func (h *handlers) CreateRepository(ctx context.Context,
	r api.CreateRepositoryRequestObject) (api.CreateRepositoryResponseObject, error) {
	if err := h.engine.CreateRepository(ctx, r.Body.Name, who(ctx).person.Username); err != nil {
		return nil, err
	}
	return api.CreateRepository201JSONResponse{Address: h.cloneAddress(r.Body.Name)}, nil
}

func (h *handlers) ListRepositories(ctx context.Context,
	_ api.ListRepositoriesRequestObject) (api.ListRepositoriesResponseObject, error) {
	names, err := h.engine.Store.Repositories(ctx)
	if err != nil {
		return nil, err
	}
	out := api.ListRepositories200JSONResponse{}
	for _, name := range names {
		services, err := h.engine.Store.ServicesOf(ctx, name)
		if err != nil {
			return nil, err
		}
		switch err := h.engine.MayRead(ctx, who(ctx).person, name); {
		case errors.Is(err, rights.ErrDenied):
			continue
		case err != nil:
			return nil, err
		}
		r := api.Repository{Name: name, CloneAddress: h.cloneAddress(name), Services: []string{}}
		for _, s := range services {
			r.Services = append(r.Services, s.Name)
		}
		if may(ctx, rights.Administer, "", "") == nil {
			if r.Mirror, err = h.mirrorOf(ctx, name); err != nil {
				return nil, err
			}
		}
		out = append(out, r)
	}
	return out, nil
}

// typed checks the typed name that confirms a deletion or a move.
func typed(confirm, name, what string) error {
	if confirm != name {
		return badRequest(fmt.Sprintf("%s: type its name, %s, to confirm", what, name))
	}
	return nil
}

func (h *handlers) DeleteRepository(ctx context.Context,
	r api.DeleteRepositoryRequestObject) (api.DeleteRepositoryResponseObject, error) {
	if err := typed(r.Params.Confirm, r.Repository, "this deletes the repository's complete history"); err != nil {
		return nil, err
	}
	return api.DeleteRepository204Response{}, h.engine.DeleteRepository(ctx, r.Repository, who(ctx).person.Username)
}

func (h *handlers) DeleteService(ctx context.Context,
	r api.DeleteServiceRequestObject) (api.DeleteServiceResponseObject, error) {
	if err := typed(r.Params.Confirm, r.Service,
		"this removes the service from the list; its versions and journal are kept"); err != nil {
		return nil, err
	}
	return api.DeleteService204Response{}, h.engine.DeleteService(ctx, r.Service, who(ctx).person.Username)
}

func (h *handlers) MoveService(ctx context.Context, r api.MoveServiceRequestObject) (api.MoveServiceResponseObject,
	error) {
	means, err := h.engine.MoveImpact(ctx, r.Service, r.Body.Name)
	if err != nil {
		return nil, err
	}
	if err := typed(r.Params.Confirm, r.Service, strings.Join(means, "; ")); err != nil {
		return nil, err
	}
	return api.MoveService200JSONResponse{Effects: means},
		h.engine.MoveService(ctx, r.Service, r.Body.Name, who(ctx).person.Username)
}

func (s *Server) cloneAddress(repository string) string {
	return s.options.Address + "/git/" + repository + ".git"
}

func (h *handlers) ListServices(ctx context.Context, _ api.ListServicesRequestObject) (api.ListServicesResponseObject,
	error) {
	list, err := h.engine.Store.Services(ctx)
	if err != nil {
		return nil, err
	}
	out := api.ListServices200JSONResponse{}
	for _, s := range list {
		if may(ctx, rights.View, s.Name, "") != nil {
			continue
		}
		standing, err := h.engine.Store.Standing(ctx, s.Name)
		if err != nil {
			return nil, err
		}
		out = append(out, api.ServiceSummary{Name: s.Name, Repository: s.Repository,
			CloneAddress: h.cloneAddress(s.Repository), Stages: len(standing), RenamedTo: api.Optional(s.RenamedTo)})
	}
	return out, nil
}
