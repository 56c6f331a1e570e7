package server

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"rudmar/core/canon"
	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/rights"
	"rudmar/engine"
	"rudmar/engine/branches"
	"rudmar/engine/copies"
	"rudmar/engine/deliver"
	"rudmar/engine/deploy"
	"rudmar/engine/mirror"
	"rudmar/engine/notice"
	"rudmar/engine/people"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/platform"
	"rudmar/server/api"
)

// badRequest is an error in a request.
type badRequest string

func (b badRequest) Error() string { return string(b) }

// problemTypes are the headings of docs/problems.md, by the answer's status.
var problemTypes = map[int]string{
	http.StatusBadRequest: "invalid-request", http.StatusUnauthorized: "not-signed-in", http.StatusForbidden: "not-allowed",
	http.StatusNotFound: "not-found", http.StatusMethodNotAllowed: "method-not-allowed", http.StatusNotAcceptable: "unsupported-media",
	http.StatusUnsupportedMediaType: "unsupported-media", http.StatusRequestTimeout: "timed-out", http.StatusConflict: "conflict",
	http.StatusRequestEntityTooLarge: "too-large", http.StatusUnprocessableEntity: "not-possible",
	http.StatusTooManyRequests: "too-many-requests", http.StatusInternalServerError: "internal-error",
	http.StatusBadGateway: "platform-error", http.StatusServiceUnavailable: "unavailable",
}

func problemOf(status int, detail string) api.Problem {
	return api.Problem{Type: "/docs/problems#" + problemTypes[status], Title: http.StatusText(status), Status: status, Detail: detail}
}

func writeProblem(w http.ResponseWriter, p api.Problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p) // the client may have disconnected
}

// problem answers an error by RFC 9457.
func (s *Server) problem(c *echo.Context, err error) {
	if r, ok := c.Response().(*echo.Response); ok && r.Committed {
		return // an interrupted stream
	}
	status, known := statusOf(err)
	if !known {
		s.options.Log.Error("answering", "method", c.Request().Method, "path", c.Request().URL.Path, "error", err)
	}
	s.noteRefusal(c.Request(), err)
	p := problemOf(status, err.Error())
	var plain *echo.HTTPError
	if errors.As(err, &plain) && plain.Message != "" {
		p.Detail = plain.Message
	}
	var slow *people.SlowError
	if errors.As(err, &slow) {
		c.Response().Header().Set("Retry-After", strconv.Itoa(slow.RetryAfter()))
	}
	if status == http.StatusUnauthorized {
		c.Response().Header().Set("WWW-Authenticate", challenge(c.Request()))
	}
	if !known { // it can contain paths of the server
		p.Detail = "Rudmar could not do this; see its log"
	}
	if store.IsFault(err) {
		s.options.Log.Error("answering", "method", c.Request().Method, "path", c.Request().URL.Path, "error", err)
		p.Detail = "Rudmar cannot read or write its database and has changed nothing; try again, and check /healthz"
	}
	var broken *engine.BrokenError
	if errors.As(err, &broken) {
		if list, err := convert[[]api.Diagnostic](broken.Diagnostics); err == nil {
			p.Diagnostics = &list
		}
	}
	writeProblem(c.Response(), p)
}

// challenge returns the WWW-Authenticate header. A browser's script gets none for passwords, because the
// browser would show its own dialog.
func challenge(r *http.Request) string {
	if r.Header.Get("Sec-Fetch-Mode") != "" {
		return `Session realm="Rudmar"`
	}
	return `Basic realm="Rudmar", charset="UTF-8"`
}

// noteRefusal writes a denied attempt to the journal.
func (s *Server) noteRefusal(r *http.Request, err error) {
	if !errors.Is(err, rights.ErrDenied) {
		return
	}
	e := store.Entry{Person: who(r.Context()).person.Username, What: "denied",
		Text: r.Method + " " + r.URL.Path + ": " + err.Error()}
	if noteErr := s.engine.Store.Note(context.WithoutCancel(r.Context()), e); noteErr != nil {
		s.options.Log.Error("recording a refusal", "error", noteErr)
	}
}

// statusOf returns the status of an error, and whether the client can do something about it.
func statusOf(err error) (status int, known bool) {
	var broken *engine.BrokenError
	var unreachable *platform.Unreachable
	var refused *platform.Problem
	var bad badRequest
	var slow *people.SlowError
	var coded echo.HTTPStatusCoder
	switch {
	case store.IsFault(err):
		return http.StatusServiceUnavailable, true
	case errors.Is(err, errNotSignedIn), errors.Is(err, people.ErrSignIn), errors.Is(err, people.ErrToken):
		return http.StatusUnauthorized, true
	case errors.Is(err, rights.ErrDenied), errors.Is(err, mirror.ErrNotification):
		return http.StatusForbidden, true
	case errors.Is(err, people.ErrTokenWish), errors.Is(err, people.ErrPassword), errors.Is(err, people.ErrWeakPassword):
		return http.StatusUnprocessableEntity, true
	case errors.Is(err, store.ErrNotFound), errors.Is(err, deploy.ErrNoTarget), errors.Is(err, source.ErrNoCommit),
		errors.Is(err, deliver.ErrNotThere):
		return http.StatusNotFound, true
	case errors.Is(err, deploy.ErrOutOfDate), errors.Is(err, deploy.ErrStopped), errors.Is(err, deploy.ErrNotOpen),
		errors.Is(err, store.ErrLease),
		errors.Is(err, delivery.ErrTransition), errors.Is(err, deliver.ErrNotCounts), errors.Is(err, delivery.ErrSelection),
		errors.Is(err, deliver.ErrTime), errors.Is(err, engine.ErrMirrored),
		errors.Is(err, deliver.ErrImpactChanged),
		errors.Is(err, store.ErrMoved), errors.Is(err, store.ErrInUse), errors.Is(err, store.ErrTokenNamed),
		errors.Is(err, copies.ErrBase), errors.Is(err, store.ErrHookNamed),
		errors.Is(err, store.ErrOwned):
		return http.StatusConflict, true
	case errors.As(err, &slow):
		return http.StatusTooManyRequests, true
	case errors.As(err, &broken), errors.As(err, &bad), errors.Is(err, deliver.ErrConfirm),
		errors.Is(err, copies.ErrFolder), errors.Is(err, deploy.ErrPrivate), errors.Is(err, notice.ErrNotificationTarget),
		errors.Is(err, mirror.ErrMirror), errors.Is(err, branches.ErrNothing):
		return http.StatusUnprocessableEntity, true
	case errors.As(err, &unreachable), errors.Is(err, deploy.ErrPlatform):
		return http.StatusServiceUnavailable, true
	case errors.As(err, &refused):
		return http.StatusBadGateway, true
	case errors.As(err, &coded):
		return coded.StatusCode(), true
	}
	return http.StatusInternalServerError, false
}

// convert turns a value of the core into the API's type of the same form.
func convert[T any](v any) (T, error) {
	var out T
	text, err := json.Marshal(v)
	if err == nil {
		err = json.Unmarshal(text, &out)
	}
	return out, err
}

func textOf(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	text, err := canon.Append(nil, v)
	if err != nil {
		return ""
	}
	return string(text)
}

// unreadable returns the error that a service has no version whose manifests can be read.
func unreadable(service string) error {
	return store.NotFound("%s has no readable manifests", service)
}

// noStage returns the error that a service has no stage of a name, and which it has.
func noStage(s *manifest.Service, stage string) error {
	names := make([]string, len(s.Stages))
	for i := range s.Stages {
		names[i] = s.Stages[i].Name
	}
	return store.NotFound("unknown stage %[2]q of %[1]s (expected %[3]s)", s.Name, stage, strings.Join(names, ", "))
}
