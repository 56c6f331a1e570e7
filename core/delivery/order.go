package delivery

import (
	"maps"
	"slices"

	"rudmar/core/manifest"
)

// Stages returns the stages that a version declares, in their order, and among them, each after the stage that
// it came after, those that it no longer declares but that have standing rules. A nil in standing is left out.
func Stages(declared []manifest.Stage, standing map[string]*manifest.Stage) []manifest.Stage {
	out := slices.Clone(declared)
	at := func(name string) int {
		return slices.IndexFunc(out, func(s manifest.Stage) bool { return s.Name == name })
	}
	var rest []*manifest.Stage
	for _, name := range slices.Sorted(maps.Keys(standing)) {
		if s := standing[name]; s != nil && at(name) < 0 {
			rest = append(rest, s)
		}
	}
	for len(rest) > 0 {
		// A stage is placed once the stage before it is placed, or never will be.
		next := slices.IndexFunc(rest, func(s *manifest.Stage) bool {
			return !slices.ContainsFunc(rest, func(o *manifest.Stage) bool { return o.Name == s.After })
		})
		next = max(next, 0) // a cycle across versions: start with any of them
		s := rest[next]
		rest = slices.Delete(rest, next, next+1)
		out = slices.Insert(out, at(s.After)+1, *s)
	}
	return out
}
