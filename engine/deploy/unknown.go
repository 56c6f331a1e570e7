package deploy

import (
	"fmt"
	"slices"
	"strings"

	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/tree"
	"rudmar/platform/api"
)

// unknownToPlatform reports features of a service that the target does not have.
func unknownToPlatform(service *manifest.Service, place manifest.Place, kinds api.Kinds) []plan.Blocker {
	var out []plan.Blocker
	add := func(from tree.Origin, format string, args ...any) {
		out = append(out, plan.Blocker{Message: fmt.Sprintf(format, args...), From: &from})
	}
	target := place.Target
	if service.Stage(place.Stage) == nil {
		return nil // nothing is deployed any more
	}
	if !slices.Contains(kinds.Regions, target.Region) {
		add(service.Stage(place.Stage).From, "platform %s has no region %q (expected %s)", target.Platform, target.Region,
			strings.Join(kinds.Regions, ", "))
	}
	verbs := map[string][]string{}
	for _, k := range kinds.Permissions {
		verbs[k.Kind] = k.Verbs
	}
	for _, fn := range service.Functions {
		c := fn.At(place.Stage)
		if !slices.Contains(kinds.Runtimes, c.Runtime.V) {
			add(c.Runtime.From, "%s needs the runtime %s; %s has %s", fn.Name, c.Runtime.V, target,
				strings.Join(kinds.Runtimes, ", "))
		}
		for _, permission := range c.Permissions {
			text, _ := permission.Resource.Literal()
			kind, _, _ := strings.Cut(text, "/")
			known, ok := verbs[kind]
			if text == "" || kind == "*" {
				continue
			}
			if !ok {
				add(permission.From, "%s needs %s; %s has no resources of kind %q", fn.Name, text, target, kind)
				continue
			}
			for _, verb := range permission.Allow {
				if verb != "*" && !slices.Contains(known, verb) {
					add(permission.From, "%s cannot %s %s: the verbs of %s are %s", fn.Name, verb, text, kind, strings.Join(known, ", "))
				}
			}
		}
	}
	return out
}
