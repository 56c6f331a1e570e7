package server

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"net/http"
	"slices"
	"strings"

	"github.com/elnormous/contenttype"
	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/labstack/echo/v5"
)

// described validates requests against the API description: paths, methods, and media types.
type described struct{ router routers.Router }

func describedBy(description *openapi3.T) (*described, error) {
	router, err := gorillamux.NewRouter(description)
	return &described{router}, err
}

// negotiate rejects requests that no handler could serve: 405, 406 and 415.
func (d *described) negotiate(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		route, _, err := d.router.FindRoute(r)
		if errors.Is(err, routers.ErrMethodNotAllowed) {
			allowed := d.allowed(r)
			c.Response().Header().Set("Allow", strings.Join(allowed, ", "))
			return echo.NewHTTPError(http.StatusMethodNotAllowed,
				r.Method+" is not allowed; use "+strings.Join(allowed, ", "))
		}
		if err != nil {
			return echo.NewHTTPError(http.StatusNotFound, "unknown API address; /api lists all")
		}
		if r.ContentLength > 0 && route.Operation.RequestBody != nil {
			sent, err := contenttype.ParseMediaType(r.Header.Get("Content-Type"))
			if err != nil || sent.Type != "application" || sent.Subtype != "json" {
				return echo.NewHTTPError(http.StatusUnsupportedMediaType, "send JSON, with Content-Type: application/json")
			}
			if err := strictJSON(r, sent); err != nil {
				return err
			}
		}
		offered := answersOf(route.Operation)
		if _, _, err := contenttype.GetAcceptableMediaType(r, offered); err != nil && r.Header.Get("Accept") != "" {
			var forms []string
			for _, o := range offered {
				forms = append(forms, o.MIME())
			}
			return echo.NewHTTPError(http.StatusNotAcceptable, "the response is "+strings.Join(forms, " or "))
		}
		return next(c)
	}
}

func (d *described) allowed(r *http.Request) []string {
	var out []string
	for _, method := range []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete} {
		other := r.Clone(r.Context())
		other.Method = method
		if _, _, err := d.router.FindRoute(other); err == nil {
			out = append(out, method)
			if method == http.MethodGet {
				out = append(out, http.MethodHead)
			}
		}
	}
	return out
}

// answersOf lists the forms that an operation answers in.
func answersOf(o *openapi3.Operation) []contenttype.MediaType {
	out := []contenttype.MediaType{contenttype.NewMediaType("application/json"),
		contenttype.NewMediaType("application/problem+json")}
	for _, answer := range o.Responses.Map() {
		for form := range answer.Value.Content {
			if m := contenttype.NewMediaType(form); !slices.ContainsFunc(out, m.Equal) {
				out = append(out, m)
			}
		}
	}
	return out
}

// readOften are the paths that pages request repeatedly: responses have an entity tag, so unchanged ones are
// not sent again.
var readOften = []string{"/stage-line", "/board", "/versions", "/deliveries", "/journal", "/builds", "/services", "/source"}

// tagged responds with 304 if the client has the current response.
func tagged(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if r.Method != http.MethodGet ||
			!slices.ContainsFunc(readOften, func(end string) bool { return strings.HasSuffix(r.URL.Path, end) }) {
			return next(c)
		}
		whole := &heldResponse{ResponseWriter: c.Response(), status: http.StatusOK}
		c.SetResponse(whole)
		err := next(c)
		c.SetResponse(whole.ResponseWriter)
		if err != nil {
			return err
		}
		if whole.status == http.StatusOK {
			sum := sha256.Sum256(whole.body.Bytes())
			tag := `W/"` + hex.EncodeToString(sum[:12]) + `"`
			h := whole.Header()
			h.Set("ETag", tag)
			h.Set("Cache-Control", "private, no-cache")
			h.Set("Vary", "Cookie, Authorization, Accept-Encoding")
			if matches(r.Header.Get("If-None-Match"), tag) {
				h.Del("Content-Type")
				whole.ResponseWriter.WriteHeader(http.StatusNotModified)
				return nil
			}
		}
		whole.ResponseWriter.WriteHeader(whole.status)
		_, err = whole.ResponseWriter.Write(whole.body.Bytes())
		return err
	}
}

// matches compares weakly, as RFC 9110 has it for If-None-Match.
func matches(asked, tag string) bool {
	for one := range strings.SplitSeq(asked, ",") {
		if one = strings.TrimPrefix(strings.TrimSpace(one), "W/"); one == strings.TrimPrefix(tag, "W/") || one == "*" {
			return true
		}
	}
	return false
}

// heldResponse buffers a response.
type heldResponse struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

func (h *heldResponse) WriteHeader(status int)            { h.status = status }
func (h *heldResponse) Write(content []byte) (int, error) { return h.body.Write(content) }
func (h *heldResponse) Unwrap() http.ResponseWriter       { return h.ResponseWriter }
