package events

import "sync"

// Bell wakes those who listen. The zero value is ready.
type Bell struct {
	mu        sync.Mutex
	listeners map[chan struct{}]bool
}

// Listen gives a channel that receives after each ring, until stop is called.
// Rings that come while nobody receives are one.
func (b *Bell) Listen() (wake <-chan struct{}, stop func()) {
	c := make(chan struct{}, 1)
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.listeners == nil {
		b.listeners = map[chan struct{}]bool{}
	}
	b.listeners[c] = true
	return c, func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.listeners, c)
	}
}

// Ring wakes everybody.
func (b *Bell) Ring() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for c := range b.listeners {
		select {
		case c <- struct{}{}:
		default: // it is awake already
		}
	}
}
