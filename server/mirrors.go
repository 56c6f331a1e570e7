package server

import (
	"context"
	"errors"
	"io"
	"net/http"
	"slices"
	"time"

	"github.com/labstack/echo/v5"

	"rudmar/engine/mirror"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// mirrorOf returns a repository's mirror settings; nil for none.
func (h *handlers) mirrorOf(ctx context.Context, repository string) (*api.Mirror, error) {
	m, err := h.engine.Store.Mirror(ctx, repository)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	out := &api.Mirror{Url: m.URL, Username: api.Optional(m.User), EveryMs: m.Every.Milliseconds(), Person: m.Person,
		Error: m.Error, Folders: m.Folders}
	if !m.Tried.IsZero() {
		out.TriedAt = api.Optional(m.Tried.UnixMilli())
	}
	if !m.Read.IsZero() {
		out.ReadAt = api.Optional(m.Read.UnixMilli())
	}
	return out, nil
}

// hasRepository checks that a repository exists.
func (h *handlers) hasRepository(ctx context.Context, name string) error {
	names, err := h.engine.Store.Repositories(ctx)
	if err == nil && !slices.Contains(names, name) {
		err = store.ErrNotFound
	}
	return err
}

// SetMirror makes a repository a mirror.
func (h *handlers) SetMirror(ctx context.Context, r api.SetMirrorRequestObject) (api.SetMirrorResponseObject, error) {
	if err := h.hasRepository(ctx, r.Repository); err != nil {
		return nil, err
	}
	key, err := h.engine.Mirrors.Set(ctx, mirror.Settings{Repository: r.Repository, URL: r.Body.Url,
		User: api.OrZero(r.Body.Username), Password: api.OrZero(r.Body.Password),
		Every:   time.Duration(api.OrZero(r.Body.EveryMs)) * time.Millisecond,
		Folders: api.OrZero(r.Body.Folders)}, who(ctx).person.Username)
	if err != nil {
		return nil, err
	}
	h.engine.Mirrors.Now(r.Repository)
	return api.SetMirror200JSONResponse{Key: key}, nil
}

// FetchMirror fetches a mirror now.
func (h *handlers) FetchMirror(ctx context.Context, r api.FetchMirrorRequestObject) (api.FetchMirrorResponseObject,
	error) {
	err := h.hasRepository(ctx, r.Repository)
	if err == nil {
		_, err = h.engine.Store.Mirror(ctx, r.Repository)
	}
	if err == nil && api.OrZero(r.Params.TakeOver) {
		err = h.engine.Store.TakeOverMirror(ctx, r.Repository, who(ctx).person.Username)
	}
	if err == nil {
		h.engine.Mirrors.Now(r.Repository)
	}
	return api.FetchMirror204Response{}, err
}

// DeleteMirror ends a mirror, so people can push to the repository.
func (h *handlers) DeleteMirror(ctx context.Context,
	r api.DeleteMirrorRequestObject) (api.DeleteMirrorResponseObject, error) {
	err := h.hasRepository(ctx, r.Repository)
	if err == nil {
		err = h.engine.Store.DeleteMirror(ctx, r.Repository, who(ctx).person.Username)
	}
	return api.DeleteMirror204Response{}, err
}

// mostNotice is the most bytes of a push notice.
const mostNotice = 1 << 20

// noticeSignature is the header in which git hosts send the HMAC-SHA256 of a push notice.
const noticeSignature = "X-Hub-Signature-256"

// mirrorWebhook receives a push notification of a git host. Its signature alone authenticates it, and the
// response does not reveal whether the repository exists.
func (s *Server) mirrorWebhook(c *echo.Context) error {
	r := c.Request()
	_ = http.NewResponseController(c.Response()).SetReadDeadline(time.Now().Add(s.options.BodyTime))
	body, err := io.ReadAll(http.MaxBytesReader(c.Response(), r.Body, mostNotice))
	if err != nil {
		return tooLarge(mostNotice)
	}
	if err := s.engine.Mirrors.WebhookReceived(r.Context(), c.Param("repository"), r.Header.Get(noticeSignature), body); err != nil {
		return err
	}
	return c.NoContent(http.StatusAccepted)
}
