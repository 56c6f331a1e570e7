package platform

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/tmaxmax/go-sse"

	"rudmar/platform/api"
)

// maxEvent is the maximum size of one followed line, in bytes.
const maxEvent = 1 << 20

// LogQuery selects log lines; empty fields do not filter.
type LogQuery struct {
	Function, Revision, Invocation string
	Since                          int64 // Unix milliseconds
	After, Before                  int64 // ids of lines
	Limit                          int   // the newest lines, up to this number
}

func (q LogQuery) params() *api.GetLogsParams {
	params := &api.GetLogsParams{Function: optional(q.Function), Revision: optional(q.Revision),
		Invocation: optional(q.Invocation)}
	if q.Since > 0 {
		params.Since = &q.Since
	}
	if q.Before > 0 {
		params.Before = &q.Before
	}
	if q.After > 0 {
		params.After = &q.After
	}
	if q.Limit > 0 {
		params.Limit = &q.Limit
	}
	return params
}

// Logs returns log lines, oldest first.
func (c *Client) Logs(ctx context.Context, s Scope, q LogQuery) ([]api.LogLine, error) {
	var out struct{ Lines []api.LogLine }
	err := c.ask(ctx, &out, func(ctx context.Context) (*http.Response, error) {
		return c.api.GetLogs(ctx, s.Region, s.Service, s.Stage, q.params())
	})
	return out.Lines, err
}

// Follow passes log lines to tell as they arrive, until the context ends, the platform ends the
// stream (nil), or tell returns an error, which it returns. A nil line says that the stream is
// alive.
func (c *Client) Follow(ctx context.Context, s Scope, q LogQuery, tell func(*api.LogLine) error) error {
	params := q.params()
	yes := true
	params.Follow = &yes
	return c.exchangeWithin(ctx, c.within, func(ctx context.Context) (*http.Response, error) {
		return c.api.GetLogs(ctx, s.Region, s.Service, s.Stage, params)
	}, func(r *http.Response, deadline *time.Timer) error {
		deadline.Stop() // the stream has no deadline
		for event, err := range sse.Read(r.Body, &sse.ReadConfig{MaxEventSize: maxEvent}) {
			if err != nil {
				return &Unreachable{Address: c.address, Err: err}
			}
			var line *api.LogLine
			if event.Type == "line" {
				line = &api.LogLine{}
				if err := json.Unmarshal([]byte(event.Data), line); err != nil {
					return fmt.Errorf("reading a log line: %w", err)
				}
			}
			if err := tell(line); err != nil {
				return err
			}
		}
		return nil
	})
}
