package source

import "net/http/httptest"

// Hide writes pieces through a redacting response, and returns the output.
func Hide(secret string, pieces ...string) string {
	w := httptest.NewRecorder()
	h := &hiding{ResponseWriter: w, secret: []byte(secret)}
	for _, p := range pieces {
		_, _ = h.Write([]byte(p))
	}
	h.rest()
	return w.Body.String()
}
