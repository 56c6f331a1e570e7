package local

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"

	"rudmar/platform/api"
)

// shownMessages is how many messages are listed at most.
const shownMessages = 200

func (s *protocol) GetMessages(ctx context.Context, r api.GetMessagesRequestObject) (api.GetMessagesResponseObject,
	error) {
	where := ""
	if r.Params.DeadLetter != nil {
		where = "AND dead = 0 "
		if *r.Params.DeadLetter {
			where = "AND dead = 1 "
		}
	}
	rows, err := s.p.store.db.QueryContext(ctx,
		`SELECT id, queue, subscription, body, sent_at, due_at, attempts, dead, why FROM messages
		WHERE region = ? AND service = ? AND stage = ? AND id > ? `+where+`ORDER BY id LIMIT ?`, r.Region, r.Service,
		r.Stage, orZero(r.Params.After), shownMessages)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := api.GetMessages200JSONResponse{}
	var queues []string // of each message; "" for messages from outside
	for rows.Next() {
		var m api.Message
		var queue, body string
		if err := rows.Scan(&m.Id, &queue, &m.Source, &body, &m.SentAt, &m.DueAt, &m.Attempts,
			&m.DeadLetter, &m.Reason); err != nil {
			return nil, err
		}
		m.Functions = []string{functionOf(m.Source)}
		if err := json.Unmarshal([]byte(body), &m.Body); err != nil {
			return nil, err
		}
		out, queues = append(out, m), append(queues, queue)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, err
	}
	var there *listing // read only if a function consumes a queue
	for i, queue := range queues {
		if queue == "" {
			continue
		}
		if there == nil {
			if there, err = s.p.directory.of(ctx, scope{r.Region, r.Service, r.Stage}); err != nil {
				return nil, err
			}
		}
		out[i].Source, out[i].Functions = "queues/"+queue, there.subscribersOf(queue)
	}
	return out, nil
}

func (s *protocol) RetryMessage(ctx context.Context,
	r api.RetryMessageRequestObject) (api.RetryMessageResponseObject, error) {
	err := s.changeDeadLetter(ctx, r.Id,
		`UPDATE messages SET dead = 0, attempts = 0, due_at = ?, why = '' WHERE id = ? AND dead = 1 AND region = ? AND service = ? AND stage = ?`,
		s.p.options.Now().UnixMilli(), r.Id, r.Region, r.Service, r.Stage)
	if err != nil {
		return nil, err
	}
	s.p.dispatch.nudge()
	return api.RetryMessage204Response{}, nil
}

func (s *protocol) DeleteMessage(ctx context.Context,
	r api.DeleteMessageRequestObject) (api.DeleteMessageResponseObject,
	error) {
	err := s.changeDeadLetter(ctx, r.Id,
		`DELETE FROM messages WHERE id = ? AND dead = 1 AND region = ? AND service = ? AND stage = ?`, r.Id,
		r.Region, r.Service, r.Stage)
	return api.DeleteMessage204Response{}, err
}

// changeDeadLetter changes a message that is a dead letter.
func (s *protocol) changeDeadLetter(ctx context.Context, id int64, query string, args ...any) error {
	done, err := s.p.store.db.ExecContext(ctx, query, args...)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return refuse(http.StatusNotFound, "no dead letter %d", id)
	}
	return nil
}
