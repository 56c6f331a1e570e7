package server

import (
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"rudmar/engine/store"
)

// exists rejects requests about a service, stage or function that does not exist, so an empty list always means
// that there is nothing in it. A removed service still has its versions and its journal.
func (s *Server) exists(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		parts := strings.Split(strings.TrimPrefix(r.URL.Path, "/api/"), "/")
		if parts[0] != "services" || len(parts) < 2 || r.URL.Path == "/api/services" {
			return next(c)
		}
		service, parts := parts[1], parts[2:]
		known, err := s.engine.Store.HasService(r.Context(), service)
		if err != nil {
			return err
		}
		if !known {
			return store.NotFound("service %q not found: there is none of this name on this server", service)
		}
		stage, function := "", ""
		if len(parts) > 0 && parts[0] != "journal" && parts[0] != "copy" { // which can name anything
			stage, function = c.QueryParam("stage"), c.QueryParam("function")
		}
		if len(parts) > 1 && parts[0] == "stages" {
			stage = parts[1]
		}
		if stage != "" && r.Method == http.MethodGet {
			if err := s.engine.Store.CheckStage(r.Context(), service, stage); err != nil {
				return err
			}
		}
		if function != "" {
			if err := s.engine.Store.CheckFunction(r.Context(), service, function); err != nil {
				return err
			}
		}
		return next(c)
	}
}
