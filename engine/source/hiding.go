package source

import (
	"bytes"
	"net/http"
)

// hiding is a response in which a text is overwritten, with the same length, because git reports a repository's
// path inside frames of known length.
type hiding struct {
	http.ResponseWriter
	secret []byte // redact nothing if empty
	held   []byte // possibly the start of the secret
}

// Write forwards bytes that cannot be the start of the secret any more.
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

// rest forwards the remaining bytes.
func (h *hiding) rest() {
	_, _ = h.ResponseWriter.Write(h.held) // the client has disconnected
	h.held = nil
}

// Flush flushes the response.
func (h *hiding) Flush() {
	if f, ok := h.ResponseWriter.(http.Flusher); ok {
		f.Flush()
	}
}
