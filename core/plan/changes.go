package plan

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"rudmar/core/resource"
)

// digestForm matches values that no person compares: digests, with or without their algorithm.
var digestForm = regexp.MustCompile(`^(sha256:)?[0-9a-f]{40,}$`)

// Changes returns what the plan changes, one line each, for a person who decides about it: changed values with
// their value before and after first, then created, deleted and renamed resources, then digests. For drift the
// value before is the actual one, with the recorded one beside it. Steps that follow from another one, and steps
// that only change the record, are left out.
func (p *Plan) Changes() []string {
	var values, resources, digests []string
	for i := range p.Steps {
		s := &p.Steps[i]
		if s.RecordOnly || s.Follows != "" && !s.RevertsDrift {
			continue
		}
		switch {
		case s.RenamedFrom != "":
			resources = append(resources, fmt.Sprintf("%s: renamed from %s", s.Function, s.RenamedFrom))
		case s.Change == resource.Create:
			resources = append(resources, created(s))
		case s.Change == resource.Delete:
			resources = append(resources, s.Address+": deleted")
		case s.Change == resource.Restore && len(s.Attributes) == 0:
			resources = append(resources, s.Address+": created again, because it was deleted outside Rudmar")
		default:
			for _, a := range s.Attributes {
				switch {
				case s.Kind == resource.Revision && a.Name != "artifact": // follows from the other attributes
				case s.Kind == resource.Revision || isDigest(a.Before) || isDigest(a.After):
					digests = append(digests, fmt.Sprintf("%s: %s %s", s.Address, a.Name, digestChange(s, a)))
				default:
					values = append(values, fmt.Sprintf("%s: %s %s → %s", s.Address, a.Name, a.before(), plain(a.After, a.Unit)))
				}
			}
		}
	}
	return slices.Concat(values, resources, digests)
}

// before returns the value that the step replaces.
func (a *AttributeChange) before() string {
	if !a.Drifted {
		return plain(a.Before, a.Unit)
	}
	return fmt.Sprintf("%s (recorded %s)", plain(a.Actual, a.Unit), plain(a.Before, a.Unit))
}

func created(s *Step) string {
	var parts []string
	for _, a := range s.Attributes {
		if !isDigest(a.After) && a.After != nil {
			parts = append(parts, a.Name+" "+plain(a.After, a.Unit))
		}
	}
	if len(parts) == 0 {
		return s.Address + ": created"
	}
	return fmt.Sprintf("%s: created with %s", s.Address, strings.Join(parts, ", "))
}

// digestChange names the changed files behind a digest, if they are known.
func digestChange(s *Step, a AttributeChange) string {
	var files []string
	for _, c := range s.Because {
		files = append(files, c.Files...)
	}
	if len(files) > 0 {
		return "changed: " + strings.Join(files, ", ")
	}
	return shortDigest(a.Before) + " → " + shortDigest(a.After)
}

// plain returns a value like Value, with texts and lists of texts as they are read.
func plain(v any, unit string) string {
	switch v := v.(type) {
	case string:
		return v
	case []any:
		parts := make([]string, len(v))
		for i, item := range v {
			parts[i] = plain(item, unit)
		}
		return strings.Join(parts, ", ")
	}
	return Value(v, unit)
}

func isDigest(v any) bool {
	text, ok := v.(string)
	return ok && digestForm.MatchString(text)
}

func shortDigest(v any) string {
	if !isDigest(v) {
		return Value(v, "")
	}
	text := strings.TrimPrefix(v.(string), "sha256:")
	return text[:12]
}
