package e2e

import (
	"bytes"
	"sync"
)

// told is the output of programs: several at a time, and read while they run.
type told struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (t *told) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.text.Write(p)
}

func (t *told) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.text.String()
}
