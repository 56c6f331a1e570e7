package check

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

// Offer describes the features of a platform; manifests are checked against it.
type Offer struct {
	Regions  []string
	Runtimes []string
	Triggers []manifest.TriggerKind
	Verbs    map[string][]string // kind of resource → its verbs
}

// Offers are the platforms by name.
type Offers struct {
	Of map[string]Offer
	// All means that there are no other platforms. Without it, an unknown platform is not checked, because no
	// server can be asked.
	All bool
	// Names lists the platforms, if only their names are known.
	Names []string
}

// Verbs returns the verbs of a kind of resource on any of the platforms.
func (o *Offers) Verbs(kind string) []string {
	var out []string
	if o != nil {
		for _, offer := range o.Of {
			out = append(out, offer.Verbs[kind]...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Kinds returns the kinds of resources that permissions can name.
func (o *Offers) Kinds() []string {
	var out []string
	if o != nil {
		for _, offer := range o.Of {
			out = slices.AppendSeq(out, maps.Keys(offer.Verbs))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// offering is a platform with the stages that run on it.
type offering struct {
	platform string
	offer    Offer
	stages   []string
}

// offered returns the platforms of the service's stages, as far as they are known.
func (w *whole) offered() []offering {
	if w.options.Offers == nil {
		return nil
	}
	var out []offering
	for _, s := range w.stages() {
		for _, t := range s.Targets {
			offer, ok := w.options.Offers.Of[t.Platform]
			if !ok {
				continue
			}
			i := slices.IndexFunc(out, func(o offering) bool { return o.platform == t.Platform })
			if i < 0 {
				i, out = len(out), append(out, offering{platform: t.Platform, offer: offer})
			}
			out[i].stages = append(out[i].stages, s.Name)
		}
	}
	return out
}

// checkTargets reports unknown platforms and regions.
func (w *whole) checkTargets(n *tree.Node, s *manifest.Stage) {
	if w.options.Offers == nil {
		return
	}
	nodes := []*tree.Node{n.Get("target")}
	if list := n.Get("targets"); list != nil {
		nodes = append(nodes, list.Items...)
	}
	for _, at := range nodes {
		if at == nil || at.Kind != tree.Scalar {
			continue
		}
		t := manifest.ParseTarget(at.Text)
		offer, ok := w.options.Offers.Of[t.Platform]
		switch {
		case t.Region == "":
		case !ok && !w.options.Offers.All && slices.Contains(w.options.Offers.Names, t.Platform):
		case !ok && !w.options.Offers.All && w.options.Offers.Names == nil:
			w.add(diagnostic.CodeOffer, at.Range(), "the platform %q cannot be checked without a server; set RUDMAR_SERVER",
				diagnostic.Clip(t.Platform)).Severity = diagnostic.Warning
		case !ok && !w.options.Offers.All:
			w.notOffered(diagnostic.CodeOffer, at.Range(), t.Platform,
				fmt.Sprintf("unknown platform %q", t.Platform), w.options.Offers.Names)
		case !ok:
			w.notOffered(diagnostic.CodeOffer, at.Range(), at.Text, fmt.Sprintf("unknown platform %q", t.Platform),
				w.options.Offers.Targets())
		case !slices.Contains(offer.Regions, t.Region):
			w.notOffered(diagnostic.CodeOffer, at.Range(), at.Text, fmt.Sprintf("%s has no region %q", t.Platform, t.Region),
				w.options.Offers.Targets())
		}
	}
}

// Targets returns the targets that stages can name; none if nothing is known.
func (o *Offers) Targets() []string {
	var out []string
	if o == nil {
		return nil
	}
	for name, offer := range o.Of {
		for _, region := range offer.Regions {
			out = append(out, name+"/"+region)
		}
	}
	slices.Sort(out)
	return out
}

// notOffered reports a name that a platform does not have, with the nearest that it has.
func (w *whole) notOffered(code diagnostic.Code, at diagnostic.Range, name, problem string, there []string) {
	d := w.add(code, at, "%s (expected %s)", problem, strings.Join(there, ", "))
	if near := diagnostic.Nearest(name, there); near != "" {
		d.Message = problem
		d.Meant(near)
	}
}

// offers checks a function against the platforms of its stages. The same problem on several platforms is
// reported once.
func (w *whole) offers(n *tree.Node) {
	if len(w.platforms) == 0 {
		return
	}
	told := map[diagnostic.Range]bool{}
	in := n.Get("per_stage")
	for _, o := range w.platforms {
		parts := []*tree.Node{n}
		for _, stage := range o.stages {
			parts = append(parts, in.Get(stage))
		}
		for _, part := range parts {
			w.runtimeOffered(part, o.platform, o.offer, told)
			w.triggersOffered(part, o.platform, o.offer, told)
			w.permissionsOffered(part, o.platform, o.offer, told)
		}
	}
}

// runtimeDefault checks the runtime of defaults against the platforms.
func (w *whole) runtimeDefault() {
	for _, o := range w.platforms {
		w.runtimeOffered(w.root.node.Get("defaults"), o.platform, o.offer, map[diagnostic.Range]bool{})
	}
}

func (w *whole) runtimeOffered(n *tree.Node, platform string, offer Offer, told map[diagnostic.Range]bool) {
	at := n.Get("runtime")
	if at == nil || at.Kind != tree.Scalar || slices.Contains(offer.Runtimes, at.Text) || told[at.Range()] {
		return
	}
	told[at.Range()] = true
	w.notOffered(diagnostic.CodeOffer, at.Range(), at.Text,
		fmt.Sprintf("%s has no runtime %q", platform, diagnostic.Clip(at.Text)), offer.Runtimes)
}

func (w *whole) triggersOffered(n *tree.Node, platform string, offer Offer, told map[diagnostic.Range]bool) {
	triggers := n.Get("triggers")
	if triggers == nil || triggers.Kind != tree.Mapping {
		return
	}
	for i, t := range triggers.Items {
		for _, kind := range manifest.TriggerKinds() {
			at := triggers.Keys[i].Range()
			if t.Get(string(kind)) != nil && !slices.Contains(offer.Triggers, kind) && !told[at] {
				told[at] = true
				var names []string
				for _, k := range offer.Triggers {
					names = append(names, string(k))
				}
				w.add(diagnostic.CodeOffer, at, "%s has no %s triggers (expected %s)", platform, kind, strings.Join(names, ", "))
			}
		}
	}
}

func (w *whole) permissionsOffered(n *tree.Node, platform string, offer Offer, told map[diagnostic.Range]bool) {
	permissions := n.Get("permissions")
	if permissions == nil || permissions.Kind != tree.Sequence {
		return
	}
	for _, p := range permissions.Items {
		of, may := p.Get("resource"), p.Get("allow")
		kind, _, ok := strings.Cut(of.Value(), "/")
		if !ok || kind == "*" || strings.Contains(kind, "${") {
			continue
		}
		verbs, known := offer.Verbs[kind]
		if !known {
			if at := of.Part(0, len(kind)); !told[at] {
				told[at] = true
				w.notOffered(diagnostic.CodeResourceKind, at, kind,
					fmt.Sprintf("%s has no resources of kind %q", platform, diagnostic.Clip(kind)),
					slices.Sorted(maps.Keys(offer.Verbs)))
			}
			continue
		}
		if may == nil || may.Kind != tree.Sequence {
			continue
		}
		for _, verb := range may.Items {
			if verb.Kind != tree.Scalar || verb.Text == "*" || slices.Contains(verbs, verb.Text) || told[verb.Range()] {
				continue
			}
			told[verb.Range()] = true
			w.notOffered(diagnostic.CodeVerb, verb.Range(), verb.Text,
				fmt.Sprintf("%s does not know the verb %q for %s", platform, diagnostic.Clip(verb.Text), kind), verbs)
		}
	}
}
