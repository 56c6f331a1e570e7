package expand

import (
	"reflect"
	"slices"

	"rudmar/core/manifest"
)

// Changed reports which functions of a service become something else than they
// did before, in a stage and on a target that both have: by their own
// manifests, a default, a setting, or a value of the stage. Code is not
// compared. Those that are new are among them.
func Changed(before, after *manifest.Service) map[string]bool {
	out := map[string]bool{}
	for _, fn := range after.Functions {
		out[fn.Name] = before.Function(fn.Name) == nil
	}
	for i := range after.Stages {
		now := &after.Stages[i]
		then := before.Stage(now.Name)
		for _, target := range now.Targets {
			if then == nil || !slices.Contains(then.Targets, target) {
				continue
			}
			was, is := byFunction(before, then, target), byFunction(after, now, target)
			for name, values := range is {
				out[name] = out[name] || !reflect.DeepEqual(was[name], values)
			}
		}
	}
	return out
}

// SecretNames returns each secret of a service with its name as its value, to compare expansions without
// values.
func SecretNames(s *manifest.Service) map[string]string {
	out := make(map[string]string, len(s.Secrets))
	for _, name := range s.Secrets {
		out[name] = name
	}
	return out
}

// byFunction returns the resources of each function, by address.
func byFunction(s *manifest.Service, stage *manifest.Stage,
	target manifest.Target) map[string]map[string]map[string]any {
	// unknown values are the same on both sides
	resources, _ := Expand(s, stage, target, Inputs{Secrets: SecretNames(s)})
	out := map[string]map[string]map[string]any{}
	for _, r := range resources {
		if out[r.Function] == nil {
			out[r.Function] = map[string]map[string]any{}
		}
		out[r.Function][r.Address] = r.Values()
	}
	return out
}
