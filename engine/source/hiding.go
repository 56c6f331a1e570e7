package source

import (
	"bytes"
	"net/http"
)

// hiding is an answer in which a text is written over, length for length: where git reports where a repository
// lies, it does so inside of frames of known length.
type hiding struct {
	http.ResponseWriter
	secret []byte // redact nothing if empty
	held   []byte // possibly the start of the secret
}

// Write passes on what cannot be the beginning of the secret any more.
func (h *hiding) Write(p []byte) (int, error) {
	if len(h.secret) == 0 {
		return h.ResponseWriter.Write(p)
	}
	whole := append(h.held, p...)
	whole = bytes.ReplaceAll(whole, h.secret, bytes.Repeat([]byte("."), len(h.secret)))
	keep := 0
	for n := min(len(h.secret)-1, len(whole)); n > 0; n-- {
		if bytes.HasPrefix(h.secret, whole[len(whole)-n:]) {
			keep = n
			break
		}
	}
	h.held = bytes.Clone(whole[len(whole)-keep:])
	_, err := h.ResponseWriter.Write(whole[:len(whole)-keep])
	return len(p), err
}

// rest passes on what was held.
func (h *hiding) rest() {
	_, _ = h.ResponseWriter.Write(h.held) // the client has disconnected
	h.held = nil
}

// Flush passes on what is there.
func (h *hiding) Flush() {
	if f, ok := h.ResponseWriter.(http.Flusher); ok {
		f.Flush()
	}
}
