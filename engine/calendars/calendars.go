// Package calendars fetches the calendars that stages name by URL at regular intervals, so gates never wait for
// a server.
package calendars

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"rudmar/core/timing"
	"rudmar/engine/recent"
	"rudmar/engine/rest"
	"rudmar/engine/store"
	"rudmar/outside"
)

// How often calendars are read.
const (
	readFor   = 10 * time.Second // one attempt
	readEvery = 30 * time.Minute
	lookEvery = time.Minute
	askedFor  = 24 * time.Hour // a calendar without a reader for this long is no longer fetched
	longest   = 10 * time.Minute
	most      = 256 << 10 // bytes
)

// ErrUnread reports that a calendar has never been read.
var ErrUnread = errors.New("the calendar has not been read yet")

// Reader reads calendars. Its methods can be called concurrently.
type Reader struct {
	store  *store.Store
	client *http.Client
	log    *slog.Logger
	wake   chan struct{}
	parsed *recent.Cache[string, timing.Calendar] // by zone and text

	mu    sync.Mutex
	asked map[string]time.Time
	told  map[string]bool // read again, regardless of the last time
	rests *rest.Rests[string]
}

// New creates a reader; inside allows addresses of this machine and of private networks.
func New(s *store.Store, inside bool, log *slog.Logger) *Reader {
	parsed := recent.New[string, timing.Calendar](32)
	return &Reader{store: s, client: outside.Client(inside, readFor), log: log, wake: make(chan struct{}, 1),
		parsed: parsed, asked: map[string]time.Time{}, told: map[string]bool{},
		rests: rest.New[string](longest)}
}

// Get returns a calendar as it was read last, with its days in a zone; the error wraps ErrUnread if it never was, and
// timing.ErrCalendar if it was not understood.
func (r *Reader) Get(ctx context.Context, address string, zone *time.Location) (timing.Calendar, error) {
	r.mu.Lock()
	_, known := r.asked[address]
	r.asked[address] = r.store.Now()
	r.mu.Unlock()
	if !known {
		r.nudge()
	}
	kept, err := r.store.Calendar(ctx, address)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return timing.Calendar{}, ErrUnread
	case err != nil:
		return timing.Calendar{}, err
	case kept.Read.IsZero():
		return timing.Calendar{}, fmt.Errorf("%w: %s", ErrUnread, kept.Error)
	}
	key := zone.String() + "\n" + kept.Text
	if c, ok := r.parsed.Get(key); ok {
		return c, nil
	}
	c, err := timing.ParseCalendar(kept.Text, zone)
	if err == nil {
		r.parsed.Add(key, c)
	}
	return c, err
}

// Again makes Run read all calendars in use now.
func (r *Reader) Again() {
	r.mu.Lock()
	for address := range r.asked {
		r.told[address] = true
		r.rests.Ended(address, nil)
	}
	r.mu.Unlock()
	r.nudge()
}

// nudge wakes Run.
func (r *Reader) nudge() {
	select {
	case r.wake <- struct{}{}:
	default: // a read is pending already
	}
}

// Run reads due calendars until the context ends.
func (r *Reader) Run(ctx context.Context) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		for _, address := range r.due(ctx) {
			err := r.read(ctx, address)
			if ctx.Err() != nil {
				return
			}
			r.rests.Ended(address, err)
			if err != nil {
				r.log.Warn("reading a calendar", "address", address, "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-r.wake:
		}
	}
}

// due lists the calendars that are to be read now.
func (r *Reader) due(ctx context.Context) []string {
	now := r.store.Now()
	r.mu.Lock()
	defer r.mu.Unlock()
	var out []string
	for address, at := range r.asked {
		if now.After(at.Add(askedFor)) {
			delete(r.asked, address)
			delete(r.told, address)
			continue
		}
		kept, err := r.store.Calendar(ctx, address)
		fresh := err == nil && kept.Error == "" && now.Before(kept.Read.Add(readEvery)) && !r.told[address]
		if !fresh && !r.rests.Resting(address) {
			out = append(out, address)
			delete(r.told, address)
		}
	}
	return out
}

// read reads a calendar and stores it; after an error it stores the reason, and keeps the last content. A calendar that
// is not understood is stored: it can have a new freeze, so it closes its stages until it is understood.
func (r *Reader) read(ctx context.Context, address string) error {
	text, err := r.fetch(ctx, address)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		return errors.Join(err, r.store.PutCalendar(ctx, store.Calendar{Address: address, Error: err.Error()}))
	}
	_, err = timing.ParseCalendar(text, time.UTC)
	return errors.Join(err, r.store.PutCalendar(ctx, store.Calendar{Address: address, Text: text}))
}

func (r *Reader) fetch(ctx context.Context, address string) (string, error) {
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", err
	}
	q.Header.Set("Accept", "text/calendar")
	q.Header.Set("User-Agent", "Rudmar")
	answer, err := r.client.Do(q)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return "", fmt.Errorf("the server responded %s", answer.Status)
	}
	text, err := io.ReadAll(io.LimitReader(answer.Body, most+1))
	if err == nil && len(text) > most {
		err = fmt.Errorf("%w: it has more than 256 KiB", timing.ErrCalendar)
	}
	return string(text), err
}
