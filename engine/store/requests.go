package store

import (
	"context"
	"errors"
	"time"
)

// requestsKept is how long the responses to requests with an idempotency key are kept.
const requestsKept = 24 * time.Hour

// RepeatableRequest is a request with an idempotency key of a person.
type RepeatableRequest struct {
	Person, Key string
	Digest      string // of method, address and body
	Process     string // the process that serves it
	Status      int    // of its response; 0 while it is in progress
	Response    []byte // encrypted
}

// StartRequest records a request with an idempotency key, and returns the earlier request of the person with that
// key; nil if there is none in the last 24 hours.
func (s *Store) StartRequest(ctx context.Context, r RepeatableRequest) (*RepeatableRequest, error) {
	var earlier *RepeatableRequest
	err := s.Within(ctx, func(tx Tx) error {
		earlier = nil
		before := s.Now().Add(-requestsKept).UnixMilli()
		if _, err := tx.ExecContext(ctx, `DELETE FROM repeatable_requests WHERE at < ?`, before); err != nil {
			return err
		}
		found, err := one(ctx, tx, func(row scanner) (RepeatableRequest, error) {
			e := RepeatableRequest{Person: r.Person, Key: r.Key}
			return e, row.Scan(&e.Digest, &e.Process, &e.Status, &e.Response)
		}, `SELECT digest, process, status, response FROM repeatable_requests WHERE person = ? AND key = ?`, r.Person, r.Key)
		if err == nil {
			earlier = &found
			return nil
		}
		if !errors.Is(err, ErrNotFound) {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO repeatable_requests (person, key, digest, process, at) VALUES (?,?,?,?,?)`,
			r.Person, r.Key, r.Digest, r.Process, s.stamp())
		return err
	})
	return earlier, err
}

// EndRequest records the response to a request with an idempotency key. Without a status the request is forgotten,
// so it can be repeated.
func (s *Store) EndRequest(ctx context.Context, r RepeatableRequest) error {
	return s.Within(ctx, func(tx Tx) error {
		query, args := `UPDATE repeatable_requests SET status = ?, response = ? WHERE person = ? AND key = ?`,
			[]any{r.Status, r.Response, r.Person, r.Key}
		if r.Status == 0 {
			query, args = `DELETE FROM repeatable_requests WHERE person = ? AND key = ?`, args[2:]
		}
		_, err := tx.ExecContext(ctx, query, args...)
		return err
	})
}
