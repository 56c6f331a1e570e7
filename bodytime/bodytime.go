// Package bodytime ends requests whose bodies arrive too slowly.
package bodytime

import (
	"io"
	"net/http"
	"time"
)

// LeastRate is the rate at which a body must arrive after its first moments, in bytes per second.
const LeastRate = 16 << 10

// Limit returns a request's body that must arrive within a time, and longer bodies at LeastRate besides. Only the time
// in which the server waits for the caller counts.
func Limit(w http.ResponseWriter, r *http.Request, within time.Duration) io.ReadCloser {
	if r.Body == nil || r.Body == http.NoBody {
		return r.Body
	}
	return &body{ReadCloser: r.Body, control: http.NewResponseController(w), left: within}
}

type body struct {
	io.ReadCloser
	control *http.ResponseController
	left    time.Duration // for waiting
}

func (b *body) Read(p []byte) (int, error) {
	begun := time.Now()
	_ = b.control.SetReadDeadline(begun.Add(b.left)) // a connection without deadlines has its own
	n, err := b.ReadCloser.Read(p)
	b.left = max(0, b.left+time.Duration(n)*time.Second/LeastRate-time.Since(begun))
	if err != nil && err != io.EOF {
		return n, err // the deadline stays: the server must not wait for the rest of the body at the end of the request
	}
	_ = b.control.SetReadDeadline(time.Time{})
	return n, err
}
