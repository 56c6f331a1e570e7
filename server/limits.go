package server

import (
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"rudmar/bodytime"
)

// Limits of a request's size, in bytes, and of its duration.
const (
	maxCopy    = 72 << 20 // a folder, in base64
	maxSignIn  = 4 << 10
	maxRequest = 256 << 10
	maxEdit    = 32 << 20 // files of an edit, or an event
)

// mostOf returns the maximum size of a request to the API.
func mostOf(path string) int64 {
	if path == "/api/session" {
		return maxSignIn
	}
	if strings.HasPrefix(path, "/api/services/") && strings.HasSuffix(path, "/copy") {
		return maxCopy
	}
	if strings.Contains(path, "/source/") || strings.HasSuffix(path, "/invocations") {
		return maxEdit
	}
	return maxRequest
}

// limitBodies rejects large requests before they are read, and ends slow ones.
func (s *Server) limitBodies(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if r.Body == nil || r.Body == http.NoBody {
			return next(c)
		}
		most := mostOf(r.URL.Path)
		if r.ContentLength > most {
			return tooLarge(most)
		}
		control := http.NewResponseController(c.Response())
		_ = control.SetReadDeadline(time.Now().Add(s.options.BodyTime)) // a connection without deadlines has its own
		body, err := io.ReadAll(http.MaxBytesReader(c.Response(), r.Body, most))
		if err != nil {
			if int64(len(body)) >= most {
				return tooLarge(most)
			}
			return echo.NewHTTPError(http.StatusRequestTimeout, "the body is incomplete: "+err.Error())
		}
		_ = control.SetReadDeadline(time.Time{})
		r.Body = io.NopCloser(strings.NewReader(string(body)))
		r.ContentLength = int64(len(body))
		return next(c)
	}
}

func tooLarge(most int64) error {
	return echo.NewHTTPError(http.StatusRequestEntityTooLarge,
		"the request is too large; the limit is "+sizeWords(most))
}

func sizeWords(n int64) string {
	if n >= 1<<20 {
		return strconv.FormatInt(n>>20, 10) + " MiB"
	}
	return strconv.FormatInt(n>>10, 10) + " KiB"
}

// withReadTimeout ends pushes that arrive too slowly.
func withReadTimeout(within time.Duration, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Body = bodytime.Limit(w, r, within)
		next.ServeHTTP(w, r)
	})
}
