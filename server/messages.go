package server

import (
	"context"
	"strconv"

	"rudmar/core/manifest"
	"rudmar/core/rights"
	"rudmar/engine/store"
	"rudmar/platform"
	"rudmar/server/api"
)

func (h *handlers) GetMessages(ctx context.Context, r api.GetMessagesRequestObject) (api.GetMessagesResponseObject,
	error) {
	client, scope, err := h.engine.Planner.Platform(manifest.PlaceOf(r.Service, r.Stage, r.Params.Target))
	if err != nil {
		return nil, err
	}
	list, err := client.MessagesAfter(ctx, scope, r.Params.DeadLetter, api.OrZero(r.Params.After))
	if err != nil {
		return nil, err
	}
	out, err := convert[[]api.Message](list)
	if may(ctx, rights.ViewBodies, r.Service, r.Stage) != nil {
		for i := range out {
			out[i].Body = nil
		}
	}
	return api.GetMessages200JSONResponse(append([]api.Message{}, out...)), err
}

func (h *handlers) RetryMessage(ctx context.Context,
	r api.RetryMessageRequestObject) (api.RetryMessageResponseObject, error) {
	err := h.onMessage(ctx, r.Service, r.Stage, r.Params.Target, r.Message, "message retried",
		(*platform.Client).RetryMessage)
	return api.RetryMessage204Response{}, err
}

func (h *handlers) DeleteMessage(ctx context.Context,
	r api.DeleteMessageRequestObject) (api.DeleteMessageResponseObject,
	error) {
	err := h.onMessage(ctx, r.Service, r.Stage, r.Params.Target, r.Message, "message deleted",
		(*platform.Client).DeleteMessage)
	return api.DeleteMessage204Response{}, err
}

// onMessage retries or deletes a dead letter, and notes it in the journal.
func (h *handlers) onMessage(ctx context.Context, service, stage, target string, id int64, what string,
	do func(*platform.Client, context.Context, platform.Scope, int64) error) error {
	person := who(ctx).person
	client, scope, err := h.engine.Planner.Platform(manifest.PlaceOf(service, stage, target))
	if err != nil {
		return err
	}
	if err := do(client, ctx, scope, id); err != nil {
		return err
	}
	h.engine.Watch.ObserveSoon() // the number of waiting messages changed
	return h.engine.Store.Note(ctx,
		store.Entry{Person: person.Username, Service: service, Stage: stage, What: what,
			Text: strconv.FormatInt(id, 10) + " on " + target})
}
