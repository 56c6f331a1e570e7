// Package expand computes the resources of a service in a stage, with the origin of each value.
//
// Expansions can run concurrently, also with the same Cache.
package expand

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"rudmar/core/canon"
	"rudmar/core/cores"
	"rudmar/core/manifest"
	"rudmar/core/resource"
	"rudmar/core/tree"
)

// Attribute is one attribute of a resource.
type Attribute struct {
	Name  string `json:"name"`
	Value any    `json:"value"` // string, float64, bool, []any or map[string]any
	// From is where the value was written.
	From tree.Origin `json:"from"`
	// Through is where the settings that it refers to were set.
	Through []tree.Origin `json:"through,omitempty"`
}

// Resource is one resource of a function.
type Resource struct {
	Address    string            `json:"address"`
	Kind       string            `json:"kind"`
	Function   string            `json:"function"`
	Attributes []Attribute       `json:"attributes"` // sorted by name
	Needs      []string          `json:"needs,omitempty"`
	Secrets    map[string]string `json:"-"` // attribute → the value that must not be shown
}

// Get returns the value of an attribute, or nil.
func (r *Resource) Get(name string) any { return r.attribute(name).Value }

// attribute returns an attribute; the zero one if there is none.
func (r *Resource) attribute(name string) Attribute {
	for _, a := range r.Attributes {
		if a.Name == name {
			return a
		}
	}
	return Attribute{}
}

// Values returns the attributes as a map.
func (r *Resource) Values() map[string]any {
	out := make(map[string]any, len(r.Attributes))
	for _, a := range r.Attributes {
		out[a.Name] = a.Value
	}
	return out
}

// Inputs are the inputs besides the manifests.
type Inputs struct {
	Version   int
	Artifacts map[string]string // function → digest
	Secrets   map[string]string // name → value, of this stage
	// Address is the base address of the stage's routes on the target, without a trailing slash.
	Address string
	// Key is the installation's key for the fingerprints shown in place of secrets (HMAC-SHA256): without it a
	// value cannot be guessed from its fingerprint.
	Key []byte
}

// Problem is the reason why something cannot be deployed in this stage.
type Problem struct {
	Message string      `json:"message"`
	From    tree.Origin `json:"from"`
}

// Expand returns the resources of a service in a stage on a target, sorted by address, and the problems that
// make them incomplete.
func Expand(s *manifest.Service, stage *manifest.Stage, target manifest.Target, in Inputs) ([]Resource, []Problem) {
	return ExpandAgain(s, stage, target, in, nil)
}

// ExpandAgain is Expand with a cache of functions whose configuration and inputs are unchanged.
func ExpandAgain(s *manifest.Service, stage *manifest.Stage, target manifest.Target, in Inputs,
	cache *Cache) ([]Resource, []Problem) {
	// Functions are independent: all cores share them in ranges, and the results are joined in order.
	before := cache.recall(stage, target, in)
	pieces := make([]piece, len(s.Functions))
	cores.Share(len(pieces), func(from, to int) {
		x := &expander{service: s, stage: stage, target: target, in: in}
		for i := from; i < to; i++ {
			fn := s.Functions[i]
			config := fn.At(stage.Name)
			if known, same := before.of(i, fn, config, in.Artifacts[fn.Name]); same {
				pieces[i] = known
				continue
			}
			x.piece = piece{config: config, name: fn.Name, artifact: in.Artifacts[fn.Name]}
			x.resources = make([]Resource, 0, 5+len(config.Permissions)+2*len(config.Triggers))
			x.function(fn)
			pieces[i] = x.piece
		}
	})
	var problems []Problem
	var changed []int
	for i := range pieces {
		problems = append(problems, pieces[i].problems...)
		if before != nil && i < len(before.pieces) && !pieces[i].is(before.pieces[i]) {
			changed = append(changed, i)
		}
	}
	out, ok := before.again(pieces, changed)
	if !ok {
		out = gather(pieces)
	}
	cache.keep(stage, target, in, pieces, out)
	return out, problems
}

// gather merges resources, sorted by address. They are grouped by kind first, which leaves little to sort:
// functions are sorted by name already.
func gather(pieces []piece) []Resource {
	count := map[string]int{}
	for i := range pieces {
		for j := range pieces[i].resources {
			count[pieces[i].resources[j].Kind]++
		}
	}
	kinds := slices.Sorted(maps.Keys(count))
	next, total := map[string]int{}, 0
	for _, kind := range kinds {
		next[kind] = total
		total += count[kind]
	}
	out := make([]Resource, total)
	for i := range pieces {
		for j := range pieces[i].resources {
			r := &pieces[i].resources[j]
			out[next[r.Kind]] = *r
			next[r.Kind]++
		}
	}
	for _, kind := range kinds {
		own := out[next[kind]-count[kind] : next[kind]]
		slices.SortFunc(own, func(a, b Resource) int { return strings.Compare(a.Address, b.Address) })
	}
	return out
}

type expander struct {
	service *manifest.Service
	stage   *manifest.Stage
	target  manifest.Target
	in      Inputs
	piece
}

func (x *expander) add(kind, address, fn string, attributes []Attribute, needs ...string) *Resource {
	byName := func(a, b Attribute) int { return strings.Compare(a.Name, b.Name) }
	if !slices.IsSortedFunc(attributes, byName) {
		slices.SortFunc(attributes, byName)
	}
	x.resources = append(x.resources,
		Resource{Address: address, Kind: kind, Function: fn, Attributes: attributes, Needs: needs})
	return &x.resources[len(x.resources)-1]
}

func (x *expander) function(fn *manifest.Function) {
	c := fn.At(x.stage.Name)
	name := fn.Name
	identity, logs, function := resource.Identity+"/"+name, resource.Logs+"/"+name, resource.Function+"/"+name
	revision, pointer := resource.Revision+"/"+name, resource.Pointer+"/"+name

	x.add(resource.Identity, identity, name,
		[]Attribute{{Name: "owner", Value: x.service.Owner.V, From: x.service.Owner.From}})
	x.add(resource.Logs, logs, name,
		[]Attribute{{Name: "retention", Value: ms(c.LogRetention.V.Milliseconds()), From: c.LogRetention.From}})
	grants := x.grants(name, identity, c)

	own := make([]Attribute, 0, 6+len(c.Env))
	own = append(own,
		Attribute{Name: "handler", Value: c.Handler.V, From: c.Handler.From},
		Attribute{Name: "memory", Value: float64(c.Memory.V), From: c.Memory.From},
		Attribute{Name: "runtime", Value: c.Runtime.V, From: c.Runtime.From},
		Attribute{Name: "timeout", Value: ms(c.Timeout.V.Milliseconds()), From: c.Timeout.From})
	if c.Network.V.On { // written only if true
		own = append(own, Attribute{Name: "network", Value: true, From: c.Network.From})
	}
	if to := c.Network.V.To; len(to) > 0 {
		own = append(own, Attribute{Name: "network_to", Value: list(to), From: c.Network.From})
	}
	secrets := map[string]string{}
	for _, v := range c.Env {
		a, secret := x.render("env."+v.Name, v.Value, v.From)
		if secret != "" {
			secrets[a.Name] = secret
		}
		own = append(own, a)
	}
	members := make([]canon.Member, len(own))
	for i, a := range own {
		members[i] = canon.Member{Name: a.Name, Value: a.Value}
	}
	configuration := resource.Frozen(members)
	own = append(own, Attribute{Name: "max_concurrency", Value: float64(c.MaxConcurrency.V), From: c.MaxConcurrency.From})
	x.add(resource.Function, function, name, own, identity, logs).Secrets = secrets

	artifact := x.in.Artifacts[name]
	id := resource.RevisionID(artifact, configuration)
	x.add(resource.Revision, revision, name, []Attribute{
		{Name: "artifact", Value: artifact, From: tree.Origin{File: fn.File, Line: fn.From.Line, Rule: tree.DerivedFrom}},
		{Name: "configuration", Value: configuration, From: tree.Origin{Rule: tree.DerivedFrom}},
		{Name: "id", Value: id, From: tree.Origin{Rule: tree.DerivedFrom}},
	}, append([]string{function}, grants...)...)
	x.add(resource.Pointer, pointer, name, []Attribute{
		{Name: "shares", Value: map[string]any{id: 100.0}, From: tree.Origin{Rule: tree.DerivedFrom}},
	}, revision)
	for _, t := range c.Triggers {
		x.trigger(name, pointer, t)
	}
}

func ms(n int64) float64 { return float64(n) }

func (x *expander) grants(fn, identity string, c *manifest.Config) []string {
	if len(c.Permissions) == 0 {
		return nil
	}
	type grant struct {
		resource string
		verbs    []string
		from     tree.Origin
	}
	grants := make([]grant, 0, len(c.Permissions))
	for _, p := range c.Permissions {
		of, _ := x.render("resource", p.Resource, p.From)
		resource, _ := of.Value.(string)
		i := slices.IndexFunc(grants, func(g grant) bool { return g.resource == resource })
		if i < 0 {
			i, grants = len(grants), append(grants, grant{resource: resource, from: p.From})
		}
		grants[i].verbs = append(grants[i].verbs, p.Allow...)
	}
	addresses := make([]string, len(grants))
	for i, g := range grants {
		slices.Sort(g.verbs)
		attributes := []Attribute{
			{Name: "resource", Value: g.resource, From: g.from},
			{Name: "verbs", Value: list(slices.Compact(g.verbs)), From: g.from},
		}
		value, secrets := x.readable(g.resource, g.verbs, g.from)
		r := x.add(resource.Grant, resource.Grant+"/"+fn+"/"+g.resource, fn, append(attributes, value...), identity)
		r.Secrets, addresses[i] = secrets, r.Address
	}
	return addresses
}

// readable returns the attributes of a permission to read one of the service's own secrets: its value in this
// stage, so the platform can return it.
func (x *expander) readable(resource string, verbs []string, from tree.Origin) ([]Attribute, map[string]string) {
	name, ok := strings.CutPrefix(resource, "secrets/")
	if !ok || !slices.Contains(x.service.Secrets, name) || !slices.Contains(verbs, "read") &&
		!slices.Contains(verbs, "*") {
		return nil, nil
	}
	a, value := x.render("value", manifest.Template{{Kind: manifest.ToSecret, Name: name}}, from)
	return []Attribute{a}, map[string]string{"value": value}
}

func list(words []string) []any {
	out := make([]any, len(words))
	for i, w := range words {
		out[i] = w
	}
	return out
}

func (x *expander) trigger(fn, pointer string, t manifest.Trigger) {
	enabled := Attribute{Name: "enabled", Value: t.Enabled.V, From: t.Enabled.From}
	switch t.Kind {
	case manifest.RouteTrigger:
		opening := x.add(resource.Opening, resource.Opening+"/"+fn+"/"+t.Name, fn,
			[]Attribute{{Name: "to", Value: list(t.OpenTo.V), From: t.OpenTo.From}}, pointer).Address
		x.add(resource.Route, resource.Route+"/"+fn+"/"+t.Name, fn, []Attribute{
			{Name: "method", Value: t.Route.V.Method, From: t.Route.From},
			{Name: "path", Value: t.Route.V.Path(), From: t.Route.From},
			enabled,
		}, pointer, opening)
	case manifest.CronTrigger:
		x.add(resource.Schedule, resource.Schedule+"/"+fn+"/"+t.Name, fn, []Attribute{
			{Name: "cron", Value: t.Cron.V, From: t.Cron.From},
			{Name: "zone", Value: t.Zone.V, From: t.Zone.From},
			enabled,
		}, pointer)
	case manifest.EveryTrigger:
		x.add(resource.Schedule, resource.Schedule+"/"+fn+"/"+t.Name, fn, []Attribute{
			{Name: "every", Value: ms(t.Every.V.Milliseconds()), From: t.Every.From},
			enabled,
		}, pointer)
	case manifest.ObjectsTrigger, manifest.QueueTrigger, manifest.FunctionTrigger:
		x.subscription(fn, pointer, t, enabled)
	}
}

// sourceKind returns the kind of a subscription's source, as the platform names it.
func sourceKind(kind manifest.TriggerKind) string {
	if kind == manifest.FunctionTrigger {
		return resource.Function
	}
	return string(kind)
}

func (x *expander) subscription(fn, pointer string, t manifest.Trigger, enabled Attribute) {
	source, _ := x.render("source", t.Source.V, t.Source.From)
	source.Value = sourceKind(t.Kind) + "/" + fmt.Sprint(source.Value)
	attributes := []Attribute{source, enabled}
	if len(t.Events.V) > 0 {
		attributes = append(attributes, Attribute{Name: "events", Value: list(t.Events.V), From: t.Events.From})
	}
	if len(t.Match.V) > 0 {
		match, _ := x.render("match", t.Match.V, t.Match.From)
		attributes = append(attributes, match)
	}
	if t.Kind == manifest.QueueTrigger {
		attributes = append(attributes,
			Attribute{Name: "batch_size", Value: float64(max(1, t.BatchSize.V)), From: t.BatchSize.From},
			Attribute{Name: "max_wait", Value: ms(t.MaxWait.V.Milliseconds()), From: t.MaxWait.From})
	}
	x.add(resource.Subscription, resource.Subscription+"/"+fn+"/"+t.Name, fn, attributes, pointer)
}
