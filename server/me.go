package server

import (
	"context"
	"fmt"

	"rudmar/core/rights"
	"rudmar/engine/people"
	"rudmar/engine/store"
	"rudmar/server/api"
)

func tokenOf(t store.Token) api.Token {
	out := api.Token{Id: t.ID, Name: t.Name, Permissions: []string{}, Scopes: t.Scopes(), CreatedAt: t.Made.UnixMilli(),
		ExpiresAt: t.Until.UnixMilli(), UsedFrom: t.From}
	for _, a := range t.Rights().Permissions() {
		out.Permissions = append(out.Permissions, string(a))
	}
	if !t.Used.IsZero() {
		out.UsedAt = api.Optional(t.Used.UnixMilli())
	}
	return out
}

// ListTokens lists the user's tokens, without their text.
func (h *handlers) ListTokens(ctx context.Context, _ api.ListTokensRequestObject) (api.ListTokensResponseObject,
	error) {
	list, err := h.engine.Store.Tokens(ctx, who(ctx).person.Username)
	out := api.ListTokens200JSONResponse{}
	for _, t := range list {
		out = append(out, tokenOf(t))
	}
	return out, err
}

// CreateToken creates a token, and returns its text, which is shown only once.
func (h *handlers) CreateToken(ctx context.Context,
	r api.CreateTokenRequestObject) (api.CreateTokenResponseObject, error) {
	text, t, err := h.engine.People.CreateToken(ctx, who(ctx).person, people.NewToken{Name: r.Body.Name,
		Permissions: r.Body.Permissions, In: r.Body.Scopes, Days: api.OrZero(r.Body.Days)})
	if err != nil {
		return nil, err
	}
	return api.CreateToken201JSONResponse{Text: text, Token: tokenOf(t)}, nil
}

// ChangePassword changes the user's password.
func (h *handlers) ChangePassword(ctx context.Context,
	r api.ChangePasswordRequestObject) (api.ChangePasswordResponseObject, error) {
	if who(ctx).person.Token != nil {
		return nil, fmt.Errorf("%w: a token cannot change the password", rights.ErrDenied)
	}
	err := h.engine.People.ChangePassword(ctx, who(ctx).person.Username, r.Body.Current, r.Body.Password, fromAddress(ctx))
	return api.ChangePassword204Response{}, err
}

// ListSessions lists the user's sessions.
func (h *handlers) ListSessions(ctx context.Context, _ api.ListSessionsRequestObject) (api.ListSessionsResponseObject,
	error) {
	in := who(ctx)
	list, err := h.engine.Store.Sessions(ctx, in.person.Username)
	out := api.ListSessions200JSONResponse{}
	for _, s := range list {
		out = append(out, api.AccountSession{Id: s.ID, Address: s.Address, StartedAt: s.Made.UnixMilli(),
			UsedAt: s.Used.UnixMilli(), EndsAt: s.Until.UnixMilli(), Current: in.token != "" && s.ID == in.session.ID})
	}
	return out, err
}

// EndSession ends one of the user's sessions.
func (h *handlers) EndSession(ctx context.Context, r api.EndSessionRequestObject) (api.EndSessionResponseObject,
	error) {
	if who(ctx).person.Token != nil {
		return nil, fmt.Errorf("%w: a token cannot end sessions", rights.ErrDenied)
	}
	err := h.engine.People.EndSession(ctx, who(ctx).person.Username, r.Id)
	return api.EndSession204Response{}, err
}

// RevokeToken revokes a token. A token can revoke only itself.
func (h *handlers) RevokeToken(ctx context.Context,
	r api.RevokeTokenRequestObject) (api.RevokeTokenResponseObject, error) {
	person := who(ctx).person
	if person.Token != nil && person.Token.ID != r.Id {
		return nil, fmt.Errorf("%w: a token can revoke only itself", rights.ErrDenied)
	}
	err := h.engine.People.RevokeToken(ctx, person.Username, r.Id)
	return api.RevokeToken204Response{}, err
}
