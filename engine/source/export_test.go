package source

import "net/http/httptest"

// Hide writes pieces through an answer that hides a secret, and gives what came.
func Hide(secret string, pieces ...string) string {
	w := httptest.NewRecorder()
	h := &hiding{ResponseWriter: w, secret: []byte(secret)}
	for _, p := range pieces {
		_, _ = h.Write([]byte(p))
	}
	h.rest()
	return w.Body.String()
}
