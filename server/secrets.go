package server

import (
	"context"
	"fmt"
	"slices"

	"rudmar/core/manifest"
	"rudmar/engine/store"
	"rudmar/server/api"
)

func (h *handlers) GetSecrets(ctx context.Context, r api.GetSecretsRequestObject) (api.GetSecretsResponseObject,
	error) {
	v, err := h.facts(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	switch {
	case v.Manifests == nil:
		return nil, unreadable(r.Service)
	case v.Manifests.Stage(r.Stage) == nil:
		return nil, noStage(v.Manifests, r.Stage)
	}
	kept, err := h.engine.Store.Secrets(ctx, r.Service, r.Stage)
	if err != nil {
		return nil, err
	}
	out := api.GetSecrets200JSONResponse{}
	for _, name := range v.Manifests.Secrets {
		secret := api.StageSecret{Name: name, UsedBy: usersOf(v.Manifests, r.Stage, name)}
		if i := slices.IndexFunc(kept, func(s store.Sealed) bool { return s.Name == name }); i >= 0 {
			at := kept[i].At.UnixMilli()
			secret.SetAt, secret.SetBy = &at, &kept[i].Person
		}
		out = append(out, secret)
	}
	return out, nil
}

// usersOf lists the functions that receive a secret in a variable, or can read it.
func usersOf(service *manifest.Service, stage, name string) []string {
	out := []string{}
	for _, fn := range service.Functions {
		c := fn.At(stage)
		gets := slices.ContainsFunc(c.Env, func(v manifest.EnvVar) bool {
			return slices.ContainsFunc(v.Value,
				func(p manifest.Part) bool { return p.Kind == manifest.ToSecret && p.Name == name })
		})
		reads := slices.ContainsFunc(c.Permissions, func(p manifest.Permission) bool {
			of, literal := p.Resource.Literal()
			return literal && of == "secrets/"+name
		})
		if gets || reads {
			out = append(out, fn.Name)
		}
	}
	return out
}

func (h *handlers) SetSecret(ctx context.Context, r api.SetSecretRequestObject) (api.SetSecretResponseObject, error) {
	person := who(ctx).person
	v, err := h.facts(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	if v.Manifests == nil || !slices.Contains(v.Manifests.Secrets, r.Secret) || v.Manifests.Stage(r.Stage) == nil {
		return nil, badRequest(fmt.Sprintf("%s declares no secret %q, or has no stage %s", r.Service, r.Secret, r.Stage))
	}
	if err := h.engine.People.SetSecret(ctx, r.Service, r.Stage, r.Secret, r.Body.Value, person.Username); err != nil {
		return nil, err
	}
	h.engine.Line.Changed(r.Service)
	return api.SetSecret204Response{}, nil
}
