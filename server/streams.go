package server

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"rudmar/core/manifest"
	"rudmar/core/rights"
	"rudmar/engine/people"
	"rudmar/engine/store"
	"rudmar/platform"
	wire "rudmar/platform/api"
)

// keepAlive is the interval of keep-alive messages, so a page can tell a quiet stream from a lost one.
const keepAlive = 10 * time.Second

// comeBack is the delay after which a page reconnects to a lost stream.
const comeBack = 2 * time.Second

// followAgain is the pause after the platform ends a stream.
const followAgain = time.Second

// stream is an answer of server-sent events.
type stream struct {
	w       http.ResponseWriter
	control *http.ResponseController
}

// headAsked marks a HEAD request.
type headAsked struct{}

// streamHead responds to HEAD of a stream, whose body would never end.
func streamHead(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if c.Request().Context().Value(headAsked{}) == nil {
			return next(c)
		}
		c.Response().Header().Set("Content-Type", "text/event-stream")
		return c.NoContent(http.StatusOK)
	}
}

func newStream(c *echo.Context) *stream {
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
	_, _ = fmt.Fprintf(w, "retry: %d\n\n", comeBack.Milliseconds()) // the client may have disconnected
	return &stream{w: w, control: http.NewResponseController(w)}
}

func (s *stream) send(id int64, topic string, body any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(s.w, "id: %d\nevent: %s\ndata: %s\n\n", id, topic, text); err != nil {
		return err
	}
	return s.control.Flush()
}

func (s *stream) alive() error {
	if _, err := fmt.Fprint(s.w, "event: alive\ndata: {}\n\n"); err != nil {
		return err
	}
	return s.control.Flush()
}

// signedInCheck is the interval of checks whether a stream's reader is still signed in, besides notifications:
// another process may have ended the session.
const signedInCheck = time.Second

// untilSignedOut returns a context that ends with the user's session.
func (s *Server) untilSignedOut(ctx context.Context) (context.Context, context.CancelFunc) {
	in := who(ctx)
	ctx, cancel := context.WithCancel(ctx)
	wake, stop := s.engine.People.Listen()
	go func() {
		defer stop()
		tick := time.NewTicker(signedInCheck)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-wake:
			case <-tick.C:
			}
			if !s.stillSignedIn(ctx, in) {
				cancel()
				return
			}
		}
	}()
	return ctx, cancel
}

func (s *Server) stillSignedIn(ctx context.Context, in signedIn) bool {
	if in.token != "" {
		p, _, err := s.engine.People.Session(ctx, in.token)
		ended := errors.Is(err, store.ErrNotFound) || errors.Is(err, people.ErrSignIn)
		return !ended && (err != nil || sameRights(p, in.person))
	}
	p, err := s.engine.People.Person(ctx, in.person.Username)
	if err != nil {
		return !errors.Is(err, store.ErrNotFound)
	}
	if t := in.person.Token; t != nil {
		stands, err := s.engine.Store.TokenValid(ctx, t.ID)
		return err != nil || stands && sameRights(p, in.person)
	}
	return !p.Closed && p.Password == in.person.Password && sameRights(p, in.person)
}

// sameRights reports whether a user has the rights that they had before: a stream ends otherwise, and its reader comes
// back with the present ones.
func sameRights(now, before store.Person) bool {
	return slices.Equal(now.Rights().Grants, before.Rights().Grants)
}

// events sends events, after Last-Event-ID, or after the one named in the address, by a client that has loaded
// something since then.
func (s *Server) events(c *echo.Context) error {
	ctx, cancel := s.untilSignedOut(c.Request().Context())
	defer cancel()
	wake, stop := s.engine.Store.Listen()
	defer stop()
	last, err := strconv.ParseInt(cmp.Or(c.Request().Header.Get("Last-Event-ID"), c.QueryParam("after")), 10, 64)
	if err != nil {
		last, err = s.engine.Store.NewestEvent(ctx)
		if err != nil {
			return err
		}
	}
	out := newStream(c)
	if err := out.send(last, "hello", struct{}{}); err != nil {
		return nil // the client has disconnected
	}
	tick := time.NewTicker(keepAlive)
	defer tick.Stop()
	for {
		list, err := s.engine.Store.EventsAfter(ctx, last, 500)
		if err != nil {
			return nil // the connection or the server is about to end
		}
		for _, e := range list {
			last = e.ID
			if may(ctx, rights.View, e.Service, "") != nil { // without a service it is for those who can view everything
				continue
			}
			if err := out.send(e.ID, "change",
				map[string]any{"service": e.Service, "topic": e.Topic, "body": json.RawMessage(e.Body)}); err != nil {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-wake:
		case <-tick.C:
			if err := out.alive(); err != nil {
				return nil
			}
		}
	}
}

// gather is how long log lines are collected into one event: a page reads one event of a hundred lines at a
// tenth of the cost of a hundred events.
const gather = 200 * time.Millisecond

// lineStream sends log lines, those that come close together as one event.
type lineStream struct {
	*stream
	mu    sync.Mutex
	held  []*wire.LogLine
	timer *time.Timer
	err   error // of the buffered data: the client has disconnected
}

func (s *lineStream) line(l *wire.LogLine) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.held = append(s.held, l); len(s.held) == 1 {
		s.timer = time.AfterFunc(gather, func() { _ = s.flush() }) // kept in s.err
	}
	return s.err
}

func (s *lineStream) alive() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return errors.Join(s.err, s.stream.alive())
}

// flush sends the collected lines.
func (s *lineStream) flush() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.held) > 0 && s.err == nil {
		s.err = s.send(s.held[len(s.held)-1].Id, "lines", s.held)
		s.held = nil
	}
	return s.err
}

// stop ends the response.
func (s *lineStream) stop() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.err = context.Canceled
	if s.timer != nil {
		s.timer.Stop()
	}
}

// followLogs sends log lines as they arrive, after Last-Event-ID.
func (s *Server) followLogs(c *echo.Context) error {
	client, scope, err := s.engine.Planner.Platform(manifest.PlaceOf(c.Param("service"), c.Param("stage"),
		c.QueryParam("target")))
	if err != nil {
		return err
	}
	return s.follow(c, client, scope)
}

// follow sends the log lines of a scope.
func (s *Server) follow(c *echo.Context, client *platform.Client, scope platform.Scope) error {
	ctx, cancel := s.untilSignedOut(c.Request().Context())
	defer cancel()
	query := platform.LogQuery{Function: c.QueryParam("function"), Limit: 200}
	if last := c.Request().Header.Get("Last-Event-ID"); last != "" {
		query.After, _ = strconv.ParseInt(last, 10, 64) // anything but a number requests the newest lines
	}
	out := &lineStream{stream: newStream(c)}
	defer out.stop()
	for ctx.Err() == nil {
		gone := false
		err := client.Follow(ctx, scope, query, func(l *wire.LogLine) error {
			var err error
			if l == nil {
				err = out.alive()
			} else {
				query.After, query.Limit = l.Id, 0
				err = out.line(l)
			}
			gone = err != nil
			return err
		})
		if gone || ctx.Err() != nil || out.flush() != nil {
			return nil // the client has disconnected
		}
		if err != nil {
			if err := out.send(query.After, "trouble", map[string]string{"detail": err.Error()}); err != nil {
				return nil
			}
		}
		wait := time.NewTimer(followAgain)
		select {
		case <-ctx.Done():
		case <-wait.C:
		}
		wait.Stop()
	}
	return nil
}
