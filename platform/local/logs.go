package local

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"time"

	"rudmar/platform/api"
)

// Of log lines.
const (
	shownLines  = 500  // the default limit
	mostLines   = 2000 // of one response
	followAlive = 10 * time.Second
	// followPause collects lines that come close together.
	followPause = 50 * time.Millisecond
)

// logQuery selects log lines; empty fields do not filter.
type logQuery struct {
	function, revision, invocation string
	since, after, before           int64
	limit                          int
	oldest                         bool // with more than the limit: the oldest, not the newest
}

func (o *observations) read(ctx context.Context, sc scope, q logQuery) ([]api.LogLine, error) {
	o.flush(ctx)
	query, args := `SELECT id, at, function, revision, invocation, instance, stream, text,
		(SELECT r.version FROM revisions r
			WHERE r.region = l.region AND r.service = l.service
				AND r.stage = l.stage AND r.function = l.function AND r.id = l.revision)
		FROM log_lines l WHERE region = ? AND service = ? AND stage = ? AND id > ? AND at >= ?`,
		[]any{sc.region, sc.service, sc.stage, q.after, q.since}
	for _, c := range []struct{ column, value string }{{"function", q.function}, {"revision", q.revision},
		{"invocation", q.invocation}} {
		if c.value != "" {
			query, args = query+` AND `+c.column+` = ?`, append(args, c.value)
		}
	}
	if q.before > 0 {
		query, args = query+` AND id < ?`, append(args, q.before)
	}
	order := "DESC"
	if q.oldest {
		order = "ASC"
	}
	rows, err := o.store.db.QueryContext(ctx, `SELECT * FROM (`+query+` ORDER BY id `+order+` LIMIT ?) ORDER BY id`,
		append(args, q.limit)...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []api.LogLine{}
	for rows.Next() {
		var l api.LogLine
		if err := rows.Scan(&l.Id, &l.At, &l.Function, &l.Revision, &l.Invocation, &l.Instance, &l.Stream, &l.Text,
			&l.Version); err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, rows.Err()
}

func (s *protocol) GetLogs(ctx context.Context, r api.GetLogsRequestObject) (api.GetLogsResponseObject, error) {
	sc := scope{r.Region, r.Service, r.Stage}
	q := logQuery{function: orZero(r.Params.Function), revision: orZero(r.Params.Revision),
		invocation: orZero(r.Params.Invocation),
		since:      orZero(r.Params.Since), after: orZero(r.Params.After), before: orZero(r.Params.Before), limit: shownLines}
	if r.Params.Limit != nil {
		q.limit = min(max(*r.Params.Limit, 1), mostLines)
	}
	if !orZero(r.Params.Follow) {
		lines, err := s.p.observed.read(ctx, sc, q)
		return api.GetLogs200JSONResponse{Lines: lines}, err
	}
	if last := orZero(r.Params.LastEventID); last != "" {
		after, err := strconv.ParseInt(last, 10, 64)
		if err != nil {
			return nil, refuse(400, "Last-Event-ID must be the ID of a line, not %q", last)
		}
		q.after = after
	}
	reader, writer := io.Pipe()
	go func() { _ = writer.CloseWithError(s.p.follow(ctx, writer, sc, q)) }() // that is always nil
	return api.GetLogs200TexteventStreamResponse{Body: reader}, nil
}

// follow writes lines as server-sent events until the context or the platform ends.
func (p *Platform) follow(ctx context.Context, w io.Writer, sc scope, q logQuery) error {
	const quiet = "event: alive\ndata: {}\n\n"
	if _, err := io.WriteString(w, quiet); err != nil {
		return err
	}
	alive := time.NewTicker(followAlive)
	defer alive.Stop()
	for q.oldest = q.after > 0; ; q.oldest = true {
		news := p.observed.next() // before the read, so no line is missed
		lines, err := p.observed.read(ctx, sc, q)
		if err != nil {
			return fmt.Errorf("reading log lines: %w", err)
		}
		for _, l := range lines {
			text, err := json.Marshal(l)
			if err != nil {
				return fmt.Errorf("writing a log line: %w", err)
			}
			if _, err := fmt.Fprintf(w, "id: %d\nevent: line\ndata: %s\n\n", l.Id, text); err != nil {
				return err
			}
			q.after = l.Id
		}
		if q.oldest && len(lines) == q.limit {
			continue // there are more
		}
		select {
		case <-ctx.Done():
			return nil
		case <-p.closing:
			return nil
		case <-alive.C:
			if _, err := io.WriteString(w, quiet); err != nil {
				return err
			}
		case <-news:
			pause := time.NewTimer(followPause)
			select {
			case <-ctx.Done():
			case <-pause.C:
			}
			pause.Stop()
		}
	}
}
