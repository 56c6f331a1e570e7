package local

import (
	"fmt"
	"sort"
	"strconv"
	"strings"

	"rudmar/core/canon"
	"rudmar/core/resource"
	"rudmar/platform/api"
)

// regions of the local platform.
func regions() []string { return []string{"north", "coast", "lake"} }

// kinds is the one list of the kinds of resources and their attributes in this package.
func kinds() []api.Kind {
	text := func(name string, inPlace bool) api.AttributeKind {
		return api.AttributeKind{Name: name, Type: api.String, InPlace: inPlace}
	}
	of := func(name string, t api.AttributeKindType, inPlace bool) api.AttributeKind {
		return api.AttributeKind{Name: name, Type: t, InPlace: inPlace}
	}
	measured := func(name string, unit api.AttributeKindUnit, low, high float64) api.AttributeKind {
		return api.AttributeKind{Name: name, Type: api.Number, InPlace: true, Unit: &unit, Min: &low, Max: &high}
	}
	computed := func(name string) api.AttributeKind {
		yes := true
		return api.AttributeKind{Name: name, Type: api.String, Computed: &yes}
	}
	secret := func(name string) api.AttributeKind {
		yes := true
		return api.AttributeKind{Name: name, Type: api.String, InPlace: true, Secret: &yes}
	}
	const mib, minute, day = 1 << 20, 60_000, 86_400_000
	return []api.Kind{
		{Kind: resource.Identity, Attributes: []api.AttributeKind{text("owner", true), computed("id")}},
		{Kind: resource.Grant,
			Attributes: []api.AttributeKind{text("resource", false), of("verbs", api.List, true), secret("value")}},
		{Kind: resource.Logs, Attributes: []api.AttributeKind{measured("retention", api.Ms, 3_600_000, 3653*day)}},
		{Kind: resource.Function, Attributes: []api.AttributeKind{
			text("runtime", true), text("handler", true), secret("env.*"),
			measured("memory", api.Bytes, 64*mib, 4096*mib), measured("timeout", api.Ms, 100, 15*minute),
			of("max_concurrency", api.Number, true), of("network", api.Boolean, true),
			of("network_to", api.List, true),
		}},
		{Kind: resource.Revision,
			Attributes: []api.AttributeKind{text("artifact", false), text("configuration", false), text("id", false)}},
		{Kind: resource.Pointer, Attributes: []api.AttributeKind{of("shares", api.Mapping, true)}},
		{Kind: resource.Opening, Attributes: []api.AttributeKind{of("to", api.List, true)}},
		{Kind: resource.Route,
			Attributes: []api.AttributeKind{text("method", true), text("path", true),
				of("enabled", api.Boolean, true), computed("url"), computed("origin_url")}},
		{Kind: resource.Schedule,
			Attributes: []api.AttributeKind{text("cron", true), text("zone", true), measured("every", api.Ms, minute, 366*day),
				of("enabled", api.Boolean, true)}},
		{Kind: resource.Subscription, Attributes: []api.AttributeKind{
			text("source", false), of("events", api.List, true), text("match", true), of("batch_size", api.Number, true),
			measured("max_wait", api.Ms, 0, 15*minute), of("enabled", api.Boolean, true),
		}},
	}
}

// Kinds returns the local platform's description independent of a running one: its features, not its addresses.
func Kinds() api.Kinds {
	return api.Kinds{Regions: regions(), Kinds: kinds(), Runtimes: runtimes(),
		Triggers: triggers(), Permissions: permissions()}
}

// triggers lists the kinds of triggers.
func triggers() []string {
	return []string{"route", "cron", "every", "objects", "queue", "after_function"}
}

// permissions lists the kinds of resources of grants.
func permissions() []api.PermissionKind {
	return []api.PermissionKind{
		{Kind: "tables", Verbs: []string{"read", "query", "write", "delete"}},
		{Kind: "objects", Verbs: []string{"read", "list", "write", "delete"}},
		{Kind: "queues", Verbs: []string{"send"}},
		{Kind: "secrets", Verbs: []string{"read"}},
	}
}

// checkAttributes validates the attributes of a resource.
func checkAttributes(kind string, attributes map[string]any) error {
	for _, k := range kinds() {
		if k.Kind != kind {
			continue
		}
		names := make([]string, 0, len(attributes))
		for name := range attributes {
			names = append(names, name)
		}
		sort.Strings(names)
		for _, name := range names {
			if err := checkAttribute(k, name, attributes[name]); err != nil {
				return err
			}
		}
		return nil
	}
	return fmt.Errorf("there are no resources of kind %q", kind)
}

// fixedChanges names the attributes that differ and cannot change in place.
func fixedChanges(kind string, before, after map[string]any) []string {
	var out []string
	for _, k := range kinds() {
		if k.Kind != kind {
			continue
		}
		for _, a := range k.Attributes {
			computed := a.Computed != nil && *a.Computed
			if !a.InPlace && !computed && !canon.Equal(before[a.Name], after[a.Name]) {
				out = append(out, a.Name)
			}
		}
	}
	return out
}

func checkAttribute(k api.Kind, name string, v any) error {
	for _, a := range k.Attributes {
		if prefix, open := strings.CutSuffix(a.Name, "*"); a.Name != name && (!open || !strings.HasPrefix(name, prefix)) {
			continue
		}
		if a.Computed != nil && *a.Computed {
			return fmt.Errorf("%s of kind %s is computed and cannot be set", name, k.Kind)
		}
		ok := false
		switch a.Type {
		case api.String:
			_, ok = v.(string)
		case api.Boolean:
			_, ok = v.(bool)
		case api.List:
			_, ok = v.([]any)
		case api.Mapping:
			_, ok = v.(map[string]any)
		case api.Number:
			var f float64
			if f, ok = v.(float64); ok && (a.Min != nil && f < *a.Min || a.Max != nil && f > *a.Max) {
				return fmt.Errorf("%s of kind %s must be between %s and %s, not %s", name, k.Kind, digits(*a.Min),
					digits(*a.Max), digits(f))
			}
		}
		if !ok {
			return fmt.Errorf("%s of kind %s must be a %s, not %v", name, k.Kind, a.Type, v)
		}
		return nil
	}
	return fmt.Errorf("kind %s has no attribute %q", k.Kind, name)
}

// digits writes a number as people do.
func digits(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }
