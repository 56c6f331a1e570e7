// Package bell wakes goroutines that wait for a change. A ring carries no data: its receiver reads
// the store, so a missed or repeated ring does no harm.
package bell

import (
	"slices"
	"sync"
)

// Bell wakes listeners. The zero value is ready; its methods can be called concurrently.
type Bell struct {
	mu        sync.Mutex
	listeners map[chan struct{}][]string // the topics of each listener; none for all
}

// Listen returns a channel that receives after each ring about one of the topics, or about anything without
// topics, until stop is called. Rings without a receiver are merged.
func (b *Bell) Listen(topics ...string) (wake <-chan struct{}, stop func()) {
	c := make(chan struct{}, 1)
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.listeners == nil {
		b.listeners = map[chan struct{}][]string{}
	}
	b.listeners[c] = topics
	return c, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.listeners, c)
	}
}

// Ring wakes all listeners to one of the topics, or all listeners without topics.
func (b *Bell) Ring(topics ...string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for c, wanted := range b.listeners {
		if len(wanted) > 0 && len(topics) > 0 &&
			!slices.ContainsFunc(topics, func(t string) bool { return slices.Contains(wanted, t) }) {
			continue
		}
		select {
		case c <- struct{}{}:
		default: // it is awake already
		}
	}
}
