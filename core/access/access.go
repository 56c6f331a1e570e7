// Package access decides what permissions allow. A permission is a set of verbs on a resource
// pattern: kind/name, kind/name/path, or one of these with a * at the end, which matches any text.
//
// All its functions can be called concurrently.
package access

import (
	"fmt"
	"strings"
)

// Statement is one permission.
type Statement struct {
	Verbs    []string
	Resource string
}

// CheckPattern reports what is wrong with a resource pattern.
func CheckPattern(pattern string) error {
	kind, name, found := strings.Cut(pattern, "/")
	switch {
	case pattern == "*":
		return nil
	case !found || kind == "" || name == "":
		return fmt.Errorf("a resource is kind/name, such as tables/stations")
	case strings.Contains(strings.TrimSuffix(pattern, "*"), "*"):
		return fmt.Errorf("a * is only allowed at the end")
	case strings.ContainsAny(pattern, " \t\n"):
		return fmt.Errorf("a resource contains no spaces")
	}
	return nil
}

// Covers reports whether every resource that inner names is named by outer too.
func Covers(outer, inner string) bool {
	prefix, open := strings.CutSuffix(outer, "*")
	if !open {
		return outer == inner
	}
	return strings.HasPrefix(strings.TrimSuffix(inner, "*"), prefix)
}

// Deciding returns the index of the first statement that allows the verb on the
// resource, or -1.
func Deciding(statements []Statement, verb, resource string) int {
	for i, s := range statements {
		if !Covers(s.Resource, resource) {
			continue
		}
		for _, v := range s.Verbs {
			if v == verb || v == "*" {
				return i
			}
		}
	}
	return -1
}

// Allows reports whether any of the statements allows the verb on the resource.
func Allows(statements []Statement, verb, resource string) bool {
	return Deciding(statements, verb, resource) >= 0
}
