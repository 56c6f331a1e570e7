// Package server serves Rudmar's API, the git protocol and the page.
package server

import (
	"context"
	"crypto/rand"
	"errors"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"
	validator "github.com/oapi-codegen/nethttp-middleware"

	"rudmar/core/plan"
	"rudmar/core/rights"
	"rudmar/docs"
	"rudmar/engine"
	"rudmar/engine/deliver"
	"rudmar/engine/recent"
	"rudmar/engine/source"
	"rudmar/server/api"
	"rudmar/server/page"
)

// Options is how the server answers.
type Options struct {
	// Address is how people reach the server, such as http://127.0.0.1:7070.
	Address string
	// BodyTime is how long a request may take to send its body; default 30 seconds.
	BodyTime time.Duration
	// Simulated means that all platforms are simulated.
	Simulated bool
	// Demo means that this is the demo, whose accounts are public.
	Demo bool
	Log  *slog.Logger
}

// Server answers requests over an engine.
type Server struct {
	engine  *engine.Engine
	options Options
	process string // identifies this process
	handler http.Handler
	commits *recent.Cache[string, source.Commit] // by hash
	// large are plans with many steps, by their digests.
	large *recent.Cache[string, *plan.Plan]

	documents func() (map[string]document, error) // by name; loaded on first use
}

// remembered is how many commits are remembered.
const remembered = 500

// New creates a server.
func New(e *engine.Engine, o Options) (*Server, error) {
	if o.BodyTime == 0 {
		o.BodyTime = 30 * time.Second
	}
	s := &Server{engine: e, options: o, commits: recent.New[string, source.Commit](remembered),
		large:     recent.New[string, *plan.Plan](largePlans),
		process:   rand.Text(),
		documents: sync.OnceValues(func() (map[string]document, error) { return readDocuments(docs.Files) })}
	router := echo.New()
	router.Logger = o.Log
	router.HTTPErrorHandler = s.problem
	measured := newMetrics(s)
	router.Use(middleware.Recover(), measured.measure, s.logRequests, secureHeaders)

	description, err := openapi3.NewLoader().LoadFromData(api.Description)
	if err != nil {
		return nil, err
	}
	description.Servers = nil
	for path, item := range description.Paths.Map() { // the validator sees whole paths
		description.Paths.Delete(path)
		description.Paths.Set("/api"+path, item)
	}
	validate := validator.OapiRequestValidatorWithOptions(description, &validator.Options{
		SilenceServersWarning: true,
		Options:               openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc},
		ErrorHandlerWithOpts: func(_ context.Context, err error, w http.ResponseWriter, _ *http.Request,
			o validator.ErrorHandlerOpts) {
			writeProblem(w, problemOf(o.StatusCode, invalid(err)))
		},
	})
	forms, err := describedBy(description)
	if err != nil {
		return nil, err
	}
	router.GET("/api/openapi.yaml", func(c *echo.Context) error {
		return c.Blob(http.StatusOK, "application/yaml", api.Description)
	})
	checked := guard{server: s, byPath: operationsByRoute(description), access: operationAccess()}
	group := router.Group("/api", s.limitBodies, forms.negotiate, s.signedIn, checked.check, s.exists, s.idempotent)
	group.GET("/events", s.events, streamHead)
	group.GET("/services/:service/stages/:stage/logs/stream", s.followLogs, streamHead)
	group.GET("/services/:service/copy/logs/stream", s.followCopyLogs, streamHead)
	group.GET("/services/:service/versions/:version/functions/:function/archive", s.getArchive)
	group.Any("/*", func(*echo.Context) error { return echo.ErrNotFound }) // so other requests are checked, too
	described := group.Group("", middleware.GzipWithConfig(middleware.GzipConfig{MinLength: 1024}), tagged,
		echo.WrapMiddleware(validate))
	api.RegisterHandlers(described, api.NewStrictHandler(&handlers{s}, nil))
	router.Any("/git/*", echo.WrapHandler(withReadTimeout(o.BodyTime, http.StripPrefix("/git", e.Host))))
	router.POST("/pushed/:repository", s.mirrorWebhook)
	router.GET("/healthz", s.healthz)
	router.GET("/readyz", s.healthz)
	router.GET("/metrics", echo.WrapHandler(measured.answers))
	pages := echo.WrapHandler(page.Handler())
	router.GET("/api", pages) // address of the API reference
	router.GET("/*", pages)
	s.handler = router
	return s, nil
}

// ServeHTTP answers a request. HEAD is answered like GET, of which the connection
// leaves the body out.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodHead {
		r = r.Clone(context.WithValue(r.Context(), headAsked{}, true))
		r.Method = http.MethodGet
	}
	s.handler.ServeHTTP(w, r)
}

// logRequests writes a line for each request that is not a page's file.
func (s *Server) logRequests(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		begun := time.Now()
		err := next(c)
		r := c.Request()
		if strings.HasPrefix(r.URL.Path, "/api/") || strings.HasPrefix(r.URL.Path, "/git/") {
			level := slog.LevelDebug
			if err != nil {
				level = slog.LevelInfo
			}
			s.options.Log.Log(r.Context(), level, "request", "method", r.Method, "path", r.URL.Path, "took",
				time.Since(begun), "error", err)
		}
		return err
	}
}

func secureHeaders(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("Content-Security-Policy",
			"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		if path := c.Request().URL.Path; strings.HasPrefix(path, "/api/") || strings.HasPrefix(path, "/git/") {
			h.Set("Cache-Control", "no-store")
		}
		return next(c)
	}
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

// may returns nil if the signed-in user has a permission somewhere.
func may(ctx context.Context, a rights.Permission, service, stage string) error {
	return deliver.May(who(ctx).person, a, service, stage)
}

// handlers implements the generated interface; its methods are in the files of their subjects.
type handlers struct{ *Server }

var errNotSignedIn = errors.New("sign in first")
