package check

import (
	"rudmar/core/check"
	"rudmar/core/manifest"
	"rudmar/platform/api"
)

// Offer returns the offer that manifests are checked against, from the platform's description.
func Offer(k api.Kinds) check.Offer {
	o := check.Offer{Regions: k.Regions, Runtimes: k.Runtimes, Verbs: map[string][]string{}}
	for _, t := range k.Triggers {
		o.Triggers = append(o.Triggers, manifest.TriggerKind(t))
	}
	for _, p := range k.Permissions {
		o.Verbs[p.Kind] = p.Verbs
	}
	return o
}
