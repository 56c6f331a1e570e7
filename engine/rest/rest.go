// Package rest delays retries of a failed item, longer each time, so a polling loop does not repeat a failure
// at full speed.
package rest

import (
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
)

// Rests are pauses, by key. Its methods can be called concurrently.
type Rests[K comparable] struct {
	longest time.Duration
	mu      sync.Mutex
	of      map[K]*rest
}

type rest struct {
	until time.Time
	pace  *backoff.ExponentialBackOff
}

// New creates pauses with a maximum length.
func New[K comparable](longest time.Duration) *Rests[K] {
	return &Rests[K]{longest: longest, of: map[K]*rest{}}
}

// Resting reports whether something is to be left alone now.
func (r *Rests[K]) Resting(key K) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	one := r.of[key]
	return one != nil && time.Now().Before(one.until)
}

// Ended records a result: after an error the key pauses, longer each time; after a success the next pause is
// short again.
func (r *Rests[K]) Ended(key K, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err == nil {
		delete(r.of, key)
		return
	}
	one := r.of[key]
	if one == nil {
		one = &rest{pace: backoff.NewExponentialBackOff()}
		one.pace.MaxInterval = r.longest
		r.of[key] = one
	}
	one.until = time.Now().Add(one.pace.NextBackOff())
}
