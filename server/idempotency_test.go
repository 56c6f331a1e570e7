package server

import (
	"bytes"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"rudmar/engine/store"
	"rudmar/server/api"
)

// A repeated POST with an Idempotency-Key has no second effect and gets the first response, for a day and a person.
func TestIdempotencyKeys(t *testing.T) {
	a, later := tokenStand(t)
	post := func(who, key, path, body string) (int, string) {
		t.Helper()
		r := httptest.NewRequestWithContext(t.Context(), http.MethodPost, path, strings.NewReader(body))
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Idempotency-Key", key)
		r.SetBasicAuth(who, password)
		w := httptest.NewRecorder()
		a.server.ServeHTTP(w, r)
		return w.Code, w.Body.String()
	}
	const tokens = "/api/account/tokens"
	wish := `{"name": "nightly", "permissions": ["view"], "scopes": []}`
	status, first := post("wren", "one", tokens, wish)
	if status != http.StatusCreated {
		t.Fatalf("%d %s", status, first)
	}
	if status, again := post("wren", "one", tokens, wish); status != http.StatusCreated || again != first {
		t.Errorf("repeated: %d %s, not %s", status, again, first)
	}
	if status, text := post("wren", "two", tokens, wish); status == http.StatusCreated {
		t.Errorf("with another key: %d %s", status, text)
	}
	if status, text := post("wren", "one", tokens, strings.Replace(wish, "nightly", "daily", 1)); status != http.StatusUnprocessableEntity ||
		!strings.Contains(text, "use a new key") {
		t.Errorf("with another body: %d %s", status, text)
	}
	if status, text := post("linden", "one", tokens, wish); status != http.StatusCreated || text == first {
		t.Errorf("of another person: %d %s", status, text)
	}
	if status, text := post("wren", "a b", tokens, wish); status != http.StatusBadRequest {
		t.Errorf("a malformed key: %d %s", status, text)
	}
	later(25 * time.Hour)
	if status, text := post("wren", "one", tokens, strings.Replace(wish, "nightly", "daily", 1)); status != http.StatusCreated {
		t.Errorf("a day later: %d %s", status, text)
	}

	// A response, such as a new token, is stored encrypted.
	kept, err := a.server.engine.Store.StartRequest(t.Context(), store.RepeatableRequest{Person: "linden", Key: "two", Digest: "d"})
	if err != nil || kept != nil {
		t.Fatal(err)
	}
	if status, text := post("linden", "two", tokens, wish); status != http.StatusUnprocessableEntity {
		t.Errorf("while another request has the key: %d %s", status, text)
	}
	status, text := post("linden", "three", tokens, strings.Replace(wish, "nightly", "weekly", 1))
	kept, err = a.server.engine.Store.StartRequest(t.Context(), store.RepeatableRequest{Person: "linden", Key: "three"})
	if err != nil || status != http.StatusCreated || kept == nil || bytes.Contains(kept.Response, []byte("weekly")) {
		t.Errorf("%v: %d %s is stored as %v", err, status, text, kept)
	}
	// Every POST documents the key.
	description, err := openapi3.NewLoader().LoadFromData(api.Description)
	if err != nil {
		t.Fatal(err)
	}
	for path, item := range description.Paths.Map() {
		if item.Post != nil && item.Post.OperationID != "signIn" && item.Post.Parameters.GetByInAndName("header", "Idempotency-Key") == nil {
			t.Errorf("POST %s does not document Idempotency-Key", path)
		}
	}
}
