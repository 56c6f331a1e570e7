package server

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"rudmar/core/rights"
	"rudmar/engine/deliver"
)

// openToTokens are the requests that every token can make: about its own user, and about no service.
var openToTokens = []string{"/api/session", "/api/me", "/api/health", "/api/schemas", "/api/docs", "/api/openapi.yaml"}

// maySee returns nil if a token covers the subject of a request, and for people, who can view everything. Lists
// over all services are filtered elsewhere.
func (s *Server) maySee(r *http.Request, in signedIn) error {
	if in.person.Token == nil {
		return nil
	}
	path := r.URL.Path
	for _, open := range openToTokens {
		if path == open || strings.HasPrefix(path, open+"/") {
			return nil
		}
	}
	if path == "/api/services" || path == "/api/repositories" || path == "/api/copies" {
		return nil
	}
	parts := strings.Split(strings.TrimPrefix(path, "/api/"), "/")
	var at []rights.Where
	switch {
	case parts[0] == "services" && len(parts) > 1:
		at = append(at, rights.Where{Service: parts[1]})
	case parts[0] == "plans", parts[0] == "deployments":
		for _, part := range parts[1:] {
			id, err := strconv.ParseInt(part, 10, 64)
			if err != nil {
				continue
			}
			about := s.engine.Store.ServiceOfPlan
			if parts[0] == "deployments" {
				about = s.engine.Store.ServiceOfDeployment
			}
			service, err := about(r.Context(), id)
			if err != nil {
				return fmt.Errorf("%s %d: %w", parts[0], id, err)
			}
			at = append(at, rights.Where{Service: service})
		}
	}
	if len(at) == 0 {
		at = append(at, rights.Where{}) // operations without a service require a token for everywhere
	}
	for _, where := range at {
		if err := deliver.May(in.person, rights.View, where.Service, where.Stage); err != nil {
			return err
		}
	}
	return nil
}
