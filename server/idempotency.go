package server

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"net/http"
	"regexp"

	"github.com/labstack/echo/v5"

	"rudmar/engine/store"
)

// keyForm is the form of an Idempotency-Key: visible ASCII, with or without the quotes of a structured field.
var keyForm = regexp.MustCompile(`^[\x21-\x7e]{1,255}$`)

// keptResponse is the stored form of a response.
type keptResponse struct {
	Header http.Header
	Body   []byte
}

// idempotent executes a POST request with an Idempotency-Key once: a repetition within 24 hours gets the first
// response, another request with the same key 422, and one while the first is in progress 409. Server errors are
// not kept, so a request can be repeated after them. Responses are encrypted, because they can contain a token.
func (s *Server) idempotent(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		key := r.Header.Get("Idempotency-Key")
		if key == "" || r.Method != http.MethodPost {
			return next(c)
		}
		person := who(r.Context()).person.Username
		if !keyForm.MatchString(key) || person == "" {
			return echo.NewHTTPError(http.StatusBadRequest, "Idempotency-Key must be 1 to 255 visible ASCII characters, of a signed-in request")
		}
		body, err := io.ReadAll(r.Body)
		if err != nil {
			return err
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		sum := sha256.Sum256(append([]byte(r.URL.RequestURI()+"\n"), body...))
		request := store.RepeatableRequest{Person: person, Key: key, Digest: hex.EncodeToString(sum[:]), Process: s.process}
		earlier, err := s.engine.Store.StartRequest(r.Context(), request)
		if err != nil {
			return err
		}
		about := "request/" + person + "/" + key
		if earlier != nil {
			return s.repeat(c, *earlier, request.Digest, about)
		}
		whole := &heldResponse{ResponseWriter: c.Response(), status: http.StatusOK}
		c.SetResponse(whole)
		if err := next(c); err != nil {
			s.problem(c, err)
		}
		c.SetResponse(whole.ResponseWriter)
		if whole.status < http.StatusInternalServerError {
			text, err := json.Marshal(keptResponse{whole.Header().Clone(), whole.body.Bytes()})
			if err != nil {
				return err
			}
			request.Status, request.Response = whole.status, s.engine.People.Seal(string(text), about)
		}
		// The effect is real even if the client has disconnected.
		if err := s.engine.Store.EndRequest(context.WithoutCancel(r.Context()), request); err != nil {
			return err
		}
		whole.ResponseWriter.WriteHeader(whole.status)
		_, err = whole.ResponseWriter.Write(whole.body.Bytes())
		return err
	}
}

// repeat responds to a request whose key was used before.
func (s *Server) repeat(c *echo.Context, earlier store.RepeatableRequest, digest, about string) error {
	switch {
	case earlier.Digest != digest:
		return echo.NewHTTPError(http.StatusUnprocessableEntity,
			"this Idempotency-Key was used for another request in the last 24 hours; use a new key")
	case earlier.Status == 0 && earlier.Process == s.process:
		return echo.NewHTTPError(http.StatusConflict, "the first request with this Idempotency-Key is still in progress")
	case earlier.Status == 0:
		return echo.NewHTTPError(http.StatusConflict,
			"the server ended during the first request with this Idempotency-Key: check its effect, and use a new key")
	}
	text, err := s.engine.People.Unseal(earlier.Response, about)
	if err != nil {
		return err
	}
	var kept keptResponse
	if err := json.Unmarshal([]byte(text), &kept); err != nil {
		return err
	}
	h := c.Response().Header()
	for name, values := range kept.Header {
		h[name] = values
	}
	h.Set("Idempotency-Replayed", "true")
	c.Response().WriteHeader(earlier.Status)
	_, err = c.Response().Write(kept.Body)
	return err
}
