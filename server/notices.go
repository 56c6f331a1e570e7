package server

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"

	"rudmar/core/rights"
	"rudmar/engine/notice"
	"rudmar/engine/store"
	"rudmar/server/api"
)

func hookOf(h store.Hook) api.Hook {
	return api.Hook{Id: h.ID, Name: h.Name, Url: h.URL, Kinds: append([]string{}, h.Kinds...), Service: h.Service,
		Stage: h.Stage, Person: h.Person, MadeAt: h.Made.UnixMilli()}
}

// ListHooks lists where notices go: to who looks after what they are about, for an
// address can be what lets somebody in.
func (h *handlers) ListHooks(ctx context.Context, _ api.ListHooksRequestObject) (api.ListHooksResponseObject, error) {
	list, err := h.engine.Store.Hooks(ctx)
	out := api.ListHooks200JSONResponse{Hooks: []api.Hook{}, Kinds: notice.Kinds()}
	for _, hook := range list {
		if may(ctx, rights.LookAfter, hook.Service, hook.Stage) == nil {
			out.Hooks = append(out.Hooks, hookOf(hook))
		}
	}
	return out, err
}

// AddHook sends notices somewhere.
func (h *handlers) AddHook(ctx context.Context, r api.AddHookRequestObject) (api.AddHookResponseObject, error) {
	w := notice.Wish{Name: r.Body.Name, URL: r.Body.Url, Kinds: r.Body.Kinds, Service: api.OrZero(r.Body.Service),
		Stage: api.OrZero(r.Body.Stage)}
	if err := may(ctx, rights.LookAfter, w.Service, w.Stage); err != nil {
		return nil, err
	}
	if w.Service != "" {
		if _, err := h.engine.Store.Service(ctx, w.Service); err != nil {
			return nil, fmt.Errorf("%w: the service %s: %w", notice.ErrHook, w.Service, err)
		}
	}
	key := rand.Text()
	hook, err := h.engine.Notices.Add(ctx, w, key, who(ctx).person.Handle)
	return api.AddHook201JSONResponse{Key: key, Hook: hookOf(hook)}, err
}

// ownHook gives a hook that who asks looks after.
func (h *handlers) ownHook(ctx context.Context, id int64) (store.Hook, error) {
	hook, err := h.engine.Store.Hook(ctx, id)
	if err != nil {
		return hook, fmt.Errorf("where notices go, %d: %w", id, err)
	}
	return hook, may(ctx, rights.LookAfter, hook.Service, hook.Stage)
}

// EndHook ends notices to somewhere.
func (h *handlers) EndHook(ctx context.Context, r api.EndHookRequestObject) (api.EndHookResponseObject, error) {
	hook, err := h.ownHook(ctx, r.Id)
	if err == nil {
		err = h.engine.Store.EndHook(ctx, hook, who(ctx).person.Handle)
	}
	return api.EndHook204Response{}, err
}

// ListNotices lists what went somewhere.
func (h *handlers) ListNotices(ctx context.Context, r api.ListNoticesRequestObject) (api.ListNoticesResponseObject,
	error) {
	hook, err := h.ownHook(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	list, err := h.engine.Store.Notices(ctx, hook.ID, partSize)
	if err != nil {
		return nil, err
	}
	out := api.ListNotices200JSONResponse{}
	for _, n := range list {
		shown := api.Notice{Id: n.ID, Kind: n.Kind, State: api.NoticeState(n.State), Tries: n.Tries,
			MadeAt: n.Made.UnixMilli(), Answer: n.Answer}
		if n.State == store.NoticeQueued {
			shown.DueAt = api.Optional(n.Due.UnixMilli())
		}
		if err := json.Unmarshal([]byte(n.Body), &shown.Event); err != nil {
			return nil, err
		}
		out = append(out, shown)
	}
	return out, nil
}

// SendNoticeAgain sends a notice once more.
func (h *handlers) SendNoticeAgain(ctx context.Context,
	r api.SendNoticeAgainRequestObject) (api.SendNoticeAgainResponseObject, error) {
	n, err := h.engine.Store.Notice(ctx, r.Id)
	if err != nil {
		return nil, fmt.Errorf("notice %d: %w", r.Id, err)
	}
	if _, err := h.ownHook(ctx, n.Hook); err != nil {
		return nil, err
	}
	return api.SendNoticeAgain204Response{}, h.engine.Store.SendAgain(ctx, r.Id)
}
