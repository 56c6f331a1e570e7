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
	out := api.Token{Id: t.ID, Name: t.Name, Acts: t.Acts, Places: append([]string{}, t.Places...),
		MadeAt: t.Made.UnixMilli(), Until: t.Until.UnixMilli(), UsedFrom: t.From}
	if !t.Used.IsZero() {
		out.UsedAt = api.Optional(t.Used.UnixMilli())
	}
	return out
}

// ListTokens lists the tokens of who asks, never themselves.
func (h *handlers) ListTokens(ctx context.Context, _ api.ListTokensRequestObject) (api.ListTokensResponseObject,
	error) {
	list, err := h.engine.Store.Tokens(ctx, who(ctx).person.Handle)
	out := api.ListTokens200JSONResponse{}
	for _, t := range list {
		out = append(out, tokenOf(t))
	}
	return out, err
}

// MakeToken makes a token, and tells it this once.
func (h *handlers) MakeToken(ctx context.Context, r api.MakeTokenRequestObject) (api.MakeTokenResponseObject, error) {
	text, t, err := h.engine.People.MakeToken(ctx, who(ctx).person, people.TokenWish{Name: r.Body.Name,
		Acts: r.Body.Acts, In: r.Body.Places, Days: api.OrZero(r.Body.Days)})
	if err != nil {
		return nil, err
	}
	return api.MakeToken201JSONResponse{Text: text, Token: tokenOf(t)}, nil
}

// EndToken ends a token. A token may end itself, and no other.
func (h *handlers) EndToken(ctx context.Context, r api.EndTokenRequestObject) (api.EndTokenResponseObject, error) {
	person := who(ctx).person
	if person.Token != nil && person.Token.ID != r.Id {
		return nil, fmt.Errorf("%w: a token may end itself, and no other", rights.ErrRefused)
	}
	err := h.engine.People.EndToken(ctx, person.Handle, r.Id)
	return api.EndToken204Response{}, err
}
