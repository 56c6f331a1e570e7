// Package access decides what permissions allow. A permission is a set of
// verbs over a resource pattern: kind/name, kind/name/path, or one of these
// with a * at the end, which stands for any text.
package access

import (
	"fmt"
	"sort"
	"strings"
)

// Statement is one permission.
type Statement struct {
	Verbs    []string
	Resource string
}

// CheckPattern tells what is wrong with a resource pattern.
func CheckPattern(pattern string) error {
	kind, name, found := strings.Cut(pattern, "/")
	switch {
	case pattern == "*":
		return nil
	case !found || kind == "" || name == "":
		return fmt.Errorf("a resource is kind/name, such as tables/stations")
	case strings.Contains(strings.TrimSuffix(pattern, "*"), "*"):
		return fmt.Errorf("a * can only stand at the end")
	case strings.ContainsAny(pattern, " \t\n"):
		return fmt.Errorf("a resource has no spaces")
	}
	return nil
}

// Covers tells whether every resource that inner names is named by outer too.
func Covers(outer, inner string) bool {
	prefix, open := strings.CutSuffix(outer, "*")
	if !open {
		return outer == inner
	}
	return strings.HasPrefix(strings.TrimSuffix(inner, "*"), prefix)
}

// Deciding gives the index of the first statement that allows the verb on the
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

// Allows tells whether any of the statements allows the verb on the resource.
func Allows(statements []Statement, verb, resource string) bool {
	return Deciding(statements, verb, resource) >= 0
}

// Gained lists what after allows and before does not, a statement a pattern.
// It is exact: a statement of after that before covers, though written
// otherwise, is not gained.
func Gained(before, after []Statement) []Statement {
	out := map[string]map[string]bool{}
	for _, s := range after {
		for _, verb := range s.Verbs {
			if coversVerb(before, verb, s.Resource) {
				continue
			}
			if out[s.Resource] == nil {
				out[s.Resource] = map[string]bool{}
			}
			out[s.Resource][verb] = true
		}
	}
	var list []Statement
	for resource, verbs := range out {
		s := Statement{Resource: resource}
		for v := range verbs {
			s.Verbs = append(s.Verbs, v)
		}
		sort.Strings(s.Verbs)
		list = append(list, s)
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Resource < list[j].Resource })
	return list
}

// coversVerb tells whether one statement allows the verb on all of a pattern.
// One has to do it alone: a pattern open at its end names infinitely many
// resources, of which finitely many narrower patterns always leave some out.
func coversVerb(statements []Statement, verb, pattern string) bool {
	for _, s := range statements {
		if !Covers(s.Resource, pattern) {
			continue
		}
		for _, v := range s.Verbs {
			if v == verb || v == "*" {
				return true
			}
		}
	}
	return false
}
