package expand

import (
	"fmt"
	"slices"
	"strings"

	"rudmar/core/manifest"
	"rudmar/core/resource"
	"rudmar/core/route"
)

// Part has some functions of one version of a service, of which a stage can contain several.
type Part struct {
	Service *manifest.Service
	Stage   *manifest.Stage
	Inputs  Inputs
	// Has reports which functions of the service belong to the part.
	Has func(function string) bool
}

// Mix returns the resources of parts of several versions on a target like Expand, and besides each part's
// problems the conflicts between them: routes that match the same request, and triggers of missing functions.
func Mix(parts []Part, target manifest.Target) ([]Resource, []Problem) {
	var out []Resource
	var problems []Problem
	for _, p := range parts {
		own := *p.Service
		own.Functions = slices.DeleteFunc(slices.Clone(own.Functions),
			func(f *manifest.Function) bool { return !p.Has(f.Name) })
		resources, found := Expand(&own, p.Stage, target, p.Inputs)
		out, problems = append(out, resources...), append(problems, found...)
	}
	slices.SortFunc(out, func(a, b Resource) int { return strings.Compare(a.Address, b.Address) })
	return out, append(problems, apart(out)...)
}

// apart returns the conflicts between resources.
func apart(resources []Resource) []Problem {
	type taker struct {
		route route.Route
		of    *Resource
	}
	var out []Problem
	there, taken := map[string]bool{}, map[string]taker{}
	for i := range resources {
		there[resources[i].Address] = true
	}
	for i := range resources {
		r := &resources[i]
		switch r.Kind {
		case resource.Route:
			one, err := route.Parse(fmt.Sprint(r.Get("method")) + " " + fmt.Sprint(r.Get("path")))
			if err != nil {
				continue // its own manifest was checked, and the check reported it
			}
			other, before := taken[one.Key()]
			taken[one.Key()] = taker{one, r}
			if !before || other.of.Function == r.Function {
				continue
			}
			if request, collide := route.Collide(other.route, one); collide {
				out = append(out, Problem{From: r.attribute("path").From, Message: fmt.Sprintf(
					"%s and %s would both match the request %s; select both functions or neither", other.of.Function,
					r.Function, request)})
			}
		case resource.Subscription:
			source, _ := r.Get("source").(string)
			heard, ok := strings.CutPrefix(source, "function/")
			if ok && !there[resource.Function+"/"+heard] {
				out = append(out, Problem{From: r.attribute("source").From, Message: fmt.Sprintf(
					"%s subscribes to %s, which would be missing; select it too", r.Function, heard)})
			}
		}
	}
	return out
}
