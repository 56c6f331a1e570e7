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

func hookOf(h store.NotificationTarget) api.NotificationTarget {
	return api.NotificationTarget{Id: h.ID, Name: h.Name, Url: h.URL, Types: append([]string{}, h.Kinds...),
		Service: h.Service,
		Stage:   h.Stage, Person: h.Person, CreatedAt: h.Made.UnixMilli()}
}

// ListNotificationTargets lists notification targets for the administrators of their services, because an
// address can contain credentials.
func (h *handlers) ListNotificationTargets(ctx context.Context,
	_ api.ListNotificationTargetsRequestObject) (api.ListNotificationTargetsResponseObject, error) {
	list, err := h.engine.Store.NotificationTargets(ctx)
	out := api.ListNotificationTargets200JSONResponse{Targets: []api.NotificationTarget{}, Types: notice.Kinds()}
	for _, hook := range list {
		if may(ctx, rights.Administer, hook.Service, hook.Stage) == nil {
			out.Targets = append(out.Targets, hookOf(hook))
		}
	}
	return out, err
}

// CreateNotificationTarget sends notifications somewhere.
func (h *handlers) CreateNotificationTarget(ctx context.Context,
	r api.CreateNotificationTargetRequestObject) (api.CreateNotificationTargetResponseObject, error) {
	w := notice.NewTarget{Name: r.Body.Name, URL: r.Body.Url, Kinds: r.Body.Types, Service: api.OrZero(r.Body.Service),
		Stage: api.OrZero(r.Body.Stage)}
	if err := may(ctx, rights.Administer, w.Service, w.Stage); err != nil {
		return nil, err
	}
	if w.Service != "" {
		if _, err := h.engine.Store.Service(ctx, w.Service); err != nil {
			return nil, fmt.Errorf("%w: the service %s: %w", notice.ErrNotificationTarget, w.Service, err)
		}
	}
	key := rand.Text()
	hook, err := h.engine.Notifications.Add(ctx, w, key, who(ctx).person.Username)
	return api.CreateNotificationTarget201JSONResponse{Key: key, Target: hookOf(hook)}, err
}

// ownHook returns a notification target that the user can administer.
func (h *handlers) ownHook(ctx context.Context, id int64) (store.NotificationTarget, error) {
	hook, err := h.engine.Store.NotificationTarget(ctx, id)
	if err != nil {
		return hook, fmt.Errorf("notification target %d: %w", id, err)
	}
	return hook, may(ctx, rights.Administer, hook.Service, hook.Stage)
}

// DeleteNotificationTarget deletes a notification target.
func (h *handlers) DeleteNotificationTarget(ctx context.Context,
	r api.DeleteNotificationTargetRequestObject) (api.DeleteNotificationTargetResponseObject, error) {
	hook, err := h.ownHook(ctx, r.Id)
	if err == nil {
		err = h.engine.Store.DeleteNotificationTarget(ctx, hook, who(ctx).person.Username)
	}
	return api.DeleteNotificationTarget204Response{}, err
}

// ListNotifications lists the notifications of a target.
func (h *handlers) ListNotifications(ctx context.Context,
	r api.ListNotificationsRequestObject) (api.ListNotificationsResponseObject,
	error) {
	hook, err := h.ownHook(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	list, err := h.engine.Store.Notifications(ctx, hook.ID, partSize)
	if err != nil {
		return nil, err
	}
	out := api.ListNotifications200JSONResponse{}
	for _, n := range list {
		shown := api.Notification{Id: n.ID, Type: n.Kind, State: api.NotificationState(n.State), Attempts: n.Attempts,
			CreatedAt: n.Made.UnixMilli(), Response: n.Response}
		if n.State == store.NotificationQueued {
			shown.DueAt = api.Optional(n.Due.UnixMilli())
		}
		if err := json.Unmarshal([]byte(n.Body), &shown.Event); err != nil {
			return nil, err
		}
		out = append(out, shown)
	}
	return out, nil
}

// ResendNotification sends a notification once more.
func (h *handlers) ResendNotification(ctx context.Context,
	r api.ResendNotificationRequestObject) (api.ResendNotificationResponseObject, error) {
	n, err := h.engine.Store.Notification(ctx, r.Id)
	if err != nil {
		return nil, fmt.Errorf("notification %d: %w", r.Id, err)
	}
	if _, err := h.ownHook(ctx, n.NotificationTarget); err != nil {
		return nil, err
	}
	return api.ResendNotification204Response{}, h.engine.Store.RetryMessage(ctx, r.Id)
}
