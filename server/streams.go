package server

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"

	"rudmar/core/manifest"
	"rudmar/platform"
)

// keepAlive is how often a stream says something, so that a page can tell a
// quiet one from a lost one.
const keepAlive = 10 * time.Second

// followEvery is how often a followed log is asked for what is new.
const followEvery = 300 * time.Millisecond

// stream is an answer of server-sent events.
type stream struct {
	w       http.ResponseWriter
	control *http.ResponseController
}

func newStream(c *echo.Context) *stream {
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("X-Accel-Buffering", "no")
	w.WriteHeader(http.StatusOK)
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

// events sends what happens, from the event after Last-Event-ID on.
func (s *Server) events(c *echo.Context) error {
	ctx := c.Request().Context()
	wake, stop := s.engine.Events.Listen()
	defer stop()
	last, err := strconv.ParseInt(c.Request().Header.Get("Last-Event-ID"), 10, 64)
	if err != nil {
		last, err = s.engine.Store.NewestEvent(ctx)
		if err != nil {
			return err
		}
	}
	out := newStream(c)
	if err := out.send(last, "hello", struct{}{}); err != nil {
		return nil // whoever listened is gone
	}
	tick := time.NewTicker(keepAlive)
	defer tick.Stop()
	for {
		list, err := s.engine.Events.After(ctx, last)
		if err != nil {
			return nil // the connection or the server is about to end
		}
		for _, e := range list {
			last = e.ID
			if err := out.send(e.ID, "change", map[string]any{"service": e.Service, "topic": e.Topic, "body": json.RawMessage(e.Body)}); err != nil {
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

// followLogs sends log lines as they come, from the line after Last-Event-ID on.
func (s *Server) followLogs(c *echo.Context) error {
	ctx := c.Request().Context()
	client, scope, err := s.engine.Planner.Platform(c.Param("service"), c.Param("stage"), manifest.ParseTarget(c.QueryParam("target")))
	if err != nil {
		return err
	}
	query := platform.LogQuery{Function: c.QueryParam("function"), Limit: 200}
	if last := c.Request().Header.Get("Last-Event-ID"); last != "" {
		query.After, _ = strconv.ParseInt(last, 10, 64) // what is no number asks for the newest
	}
	out := newStream(c)
	tick := time.NewTicker(followEvery)
	defer tick.Stop()
	said := time.Now()
	for {
		lines, err := client.Logs(ctx, scope, query)
		if err != nil && ctx.Err() == nil {
			if err := out.send(query.After, "trouble", map[string]string{"detail": err.Error()}); err != nil {
				return nil
			}
		}
		for _, l := range lines {
			query.After, said = l.Id, time.Now()
			if err := out.send(l.Id, "line", l); err != nil {
				return nil
			}
		}
		query.Limit = 2000
		if time.Since(said) > keepAlive {
			said = time.Now()
			if err := out.alive(); err != nil {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}
