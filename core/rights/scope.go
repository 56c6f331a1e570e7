package rights

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
)

// Scope is a service, a stage of one, or a repository; the zero value is everywhere.
type Scope struct{ Repository, Service, Stage string }

const repositoryPrefix = "repository:"

// ErrScope reports a text that is not a scope.
var ErrScope = errors.New("not a scope; use a service, a stage as service/stage, repository:NAME, or everywhere")

var scopeName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// ParseScope reads "service", "service/stage", "repository:name", or "everywhere", which can be empty. The error wraps
// ErrScope.
func ParseScope(text string) (Scope, error) {
	if text == "" || text == "everywhere" {
		return Scope{}, nil
	}
	var out Scope
	var names []string
	if name, ok := strings.CutPrefix(text, repositoryPrefix); ok {
		out.Repository, names = name, []string{name}
	} else {
		names = strings.SplitN(text, "/", 2)
		out.Service = names[0]
		if len(names) == 2 {
			out.Stage = names[1]
		}
	}
	for _, name := range names {
		if !scopeName.MatchString(name) {
			return Scope{}, fmt.Errorf("%q: %w", text, ErrScope)
		}
	}
	return out, nil
}

// String returns the scope as it is written; "everywhere" for the zero value.
func (s Scope) String() string {
	switch {
	case s.Repository != "" && s.Service == "":
		return repositoryPrefix + s.Repository
	case s.Service == "":
		return "everywhere"
	case s.Stage == "":
		return s.Service
	}
	return s.Service + "/" + s.Stage
}

// covers reports whether a right in this scope is a right in the other one, too. The other scope names the repository
// of its service if that matters.
func (s Scope) covers(o Scope) bool {
	if s.Repository != "" {
		return s.Repository == o.Repository
	}
	return (s.Service == "" || s.Service == o.Service) && (s.Stage == "" || s.Stage == o.Stage)
}
