package manifest

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Offer is what a platform has: manifests are held against it.
type Offer struct {
	Regions  []string
	Runtimes []string
	Triggers []TriggerKind
	Verbs    map[string][]string // kind of resource → what may be done with it
}

// Offers are the platforms by name.
type Offers struct {
	Of map[string]Offer
	// All tells that there are no others. Without it a platform that is not
	// known is not held against anything, as where no server can be asked.
	All bool
}

// Against gives a language whose checks also hold manifests against what
// platforms offer.
func (l *Language) Against(offers *Offers) *Language {
	with := *l
	with.offers = offers
	return &with
}

// verbs gives what may be done with a kind of resource on any of the platforms.
func (o *Offers) verbs(kind string) []string {
	var out []string
	if o != nil {
		for _, offer := range o.Of {
			out = append(out, offer.Verbs[kind]...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// kinds gives the kinds of resources that permissions may be about.
func (o *Offers) kinds() []string {
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

// offered gives the platforms of the service's stages, as far as they are known.
func (w *whole) offered() []offering {
	if w.language.offers == nil {
		return nil
	}
	var out []offering
	for _, s := range w.stages() {
		for _, t := range s.Targets {
			offer, ok := w.language.offers.Of[t.Platform]
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

// checkTargets tells of platforms and regions that are not there.
func (w *whole) checkTargets(n *Node, s *Stage) {
	if w.language.offers == nil {
		return
	}
	nodes := []*Node{n.Get("target")}
	if list := n.Get("targets"); list != nil {
		nodes = append(nodes, list.Items...)
	}
	for _, at := range nodes {
		if at == nil || at.Kind != Scalar {
			continue
		}
		t := ParseTarget(at.Text)
		offer, ok := w.language.offers.Of[t.Platform]
		switch {
		case !ok && !w.language.offers.All || t.Region == "":
		case !ok:
			w.notOffered(CodeOffer, at.Range(), at.Text, fmt.Sprintf("there is no platform %q", t.Platform), w.language.offers.targets())
		case !slices.Contains(offer.Regions, t.Region):
			w.notOffered(CodeOffer, at.Range(), at.Text, fmt.Sprintf("%s has no region %q", t.Platform, t.Region), w.language.offers.targets())
		}
	}
}

func (o *Offers) targets() []string {
	var out []string
	for name, offer := range o.Of {
		for _, region := range offer.Regions {
			out = append(out, name+"/"+region)
		}
	}
	slices.Sort(out)
	return out
}

// notOffered tells of a name that a platform does not have, with the nearest that it has.
func (w *whole) notOffered(code Code, at Range, name, problem string, there []string) {
	d := w.add(code, at, "%s; there are %s", problem, strings.Join(there, ", "))
	if near := Nearest(name, there); near != "" {
		d.Message = fmt.Sprintf("%s; did you mean %q?", problem, near)
		d.Fix = replaceWith(fmt.Sprintf("Change to %q", near), at, near)
	}
}

// offers holds a function against the platforms of its stages. What is wrong on
// several of them is told once.
func (w *whole) offers(n *Node) {
	if len(w.platforms) == 0 {
		return
	}
	told := map[Range]bool{}
	in := n.Get("in")
	for _, o := range w.platforms {
		parts := []*Node{n}
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

// runtimeDefault holds the runtime of defaults against the platforms.
func (w *whole) runtimeDefault() {
	for _, o := range w.platforms {
		w.runtimeOffered(w.root.node.Get("defaults"), o.platform, o.offer, map[Range]bool{})
	}
}

func (w *whole) runtimeOffered(n *Node, platform string, offer Offer, told map[Range]bool) {
	at := n.Get("runtime")
	if at == nil || at.Kind != Scalar || slices.Contains(offer.Runtimes, at.Text) || told[at.Range()] {
		return
	}
	told[at.Range()] = true
	w.notOffered(CodeOffer, at.Range(), at.Text, fmt.Sprintf("%s has no runtime %q", platform, clip(at.Text)), offer.Runtimes)
}

func (w *whole) triggersOffered(n *Node, platform string, offer Offer, told map[Range]bool) {
	triggers := n.Get("triggers")
	if triggers == nil || triggers.Kind != Mapping {
		return
	}
	for i, t := range triggers.Items {
		for _, kind := range triggerKinds() {
			at := triggers.Keys[i].Range()
			if t.Get(string(kind)) != nil && !slices.Contains(offer.Triggers, kind) && !told[at] {
				told[at] = true
				var names []string
				for _, k := range offer.Triggers {
					names = append(names, string(k))
				}
				w.add(CodeOffer, at, "%s has no %s triggers; it has %s", platform, kind, strings.Join(names, ", "))
			}
		}
	}
}

func (w *whole) permissionsOffered(n *Node, platform string, offer Offer, told map[Range]bool) {
	permissions := n.Get("permissions")
	if permissions == nil || permissions.Kind != Sequence {
		return
	}
	for _, p := range permissions.Items {
		of, may := p.Get("of"), p.Get("may")
		kind, _, ok := strings.Cut(textOf(of), "/")
		if !ok || kind == "*" || strings.Contains(kind, "${") {
			continue
		}
		verbs, known := offer.Verbs[kind]
		if !known {
			if at := of.part(0, len(kind)); !told[at] {
				told[at] = true
				w.notOffered(CodeResourceKind, at, kind, fmt.Sprintf("%s has no resources of the kind %q", platform, clip(kind)), slices.Sorted(maps.Keys(offer.Verbs)))
			}
			continue
		}
		if may == nil || may.Kind != Sequence {
			continue
		}
		for _, verb := range may.Items {
			if verb.Kind != Scalar || verb.Text == "*" || slices.Contains(verbs, verb.Text) || told[verb.Range()] {
				continue
			}
			told[verb.Range()] = true
			w.notOffered(CodeVerb, verb.Range(), verb.Text, fmt.Sprintf("%s does not know the verb %q for %s", platform, clip(verb.Text), kind), verbs)
		}
	}
}
