package server

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/elnormous/contenttype"
	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/labstack/echo/v5"
)

// strictJSON returns an error unless the body of a request is one JSON value in UTF-8, without
// duplicate keys (RFC 7493) and without text after it. The body can be read again.
func strictJSON(r *http.Request, sent contenttype.MediaType) error {
	if charset, set := sent.Parameters["charset"]; set && !strings.EqualFold(charset, "utf-8") {
		return echo.NewHTTPError(http.StatusBadRequest, fmt.Sprintf("unknown charset %q; send JSON in UTF-8", charset))
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return echo.NewHTTPError(http.StatusBadRequest, "the body is incomplete: "+err.Error())
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	d := jsontext.NewDecoder(bytes.NewReader(body))
	if _, err = d.ReadValue(); err == nil {
		end := d.InputOffset()
		if _, err := d.ReadToken(); !errors.Is(err, io.EOF) {
			return echo.NewHTTPError(http.StatusBadRequest, fmt.Sprintf("invalid JSON: text after the value, at byte %d", end))
		}
		return nil
	}
	var bad *jsontext.SyntacticError
	if !errors.As(err, &bad) {
		return echo.NewHTTPError(http.StatusBadRequest, "invalid JSON: "+err.Error())
	}
	return echo.NewHTTPError(http.StatusBadRequest, fmt.Sprintf("invalid JSON at byte %d, in %q: %v", bad.ByteOffset,
		"/"+strings.TrimPrefix(string(bad.JSONPointer), "/"), bad.Err))
}

// invalid returns the violation of the API description in a request, and its location.
func invalid(err error) string {
	var request *openapi3filter.RequestError
	var schema *openapi3.SchemaError
	where := "the request body"
	if errors.As(err, &request) && request.Parameter != nil {
		where = "the parameter " + request.Parameter.Name
	}
	if !errors.As(err, &schema) {
		return firstLine(err.Error())
	}
	if path := schema.JSONPointer(); len(path) > 0 {
		where += ", /" + strings.Join(path, "/")
	}
	return fmt.Sprintf("invalid request: %s: %s", where, schema.Reason)
}
