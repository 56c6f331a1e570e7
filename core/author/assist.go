// Package author supports editing of manifests: completion and descriptions at a position (At),
// formatting (Format), and renaming of a function in all files (Rename).
//
// All its functions can be called concurrently.
package author

import (
	"maps"
	"slices"
	"sort"
	"strings"

	"rudmar/core/check"
	"rudmar/core/expression"
	"rudmar/core/language"
	"rudmar/core/manifest"
)

// Completion is a suggestion at the cursor.
type Completion struct {
	Label  string `json:"label"`
	Insert string `json:"insert"`
	Kind   string `json:"kind"` // key, value or name
	About  string `json:"description"`
}

// Assist describes a position in a manifest during editing.
type Assist struct {
	// Path lists the keys that lead to the position.
	Path []string `json:"path"`
	// About explains the innermost key.
	About       string       `json:"description"`
	Completions []Completion `json:"completions"`
}

// Cursor is a place in a manifest that is being written. Lines and columns
// count from 1.
type Cursor struct {
	File, Text   string
	Line, Column int
}

// Names are the sources of suggested names; both can be nil.
type Names struct {
	Service *manifest.Service
	Offers  *check.Offers
}

// At returns the suggestions for a position, and its documentation. It reads the text alone, so it also works
// in an incomplete file.
func At(at Cursor, names Names) Assist {
	c := contextAt(at.Text, at.Line, at.Column)
	shape, key := follow(language.New().Of(at.File), c.path)
	out := Assist{Path: c.path, Completions: []Completion{}}
	if key != nil {
		out.About = key.About
		if key.BuiltIn != "" {
			out.About += " Default: " + key.BuiltIn + "."
		}
	}
	switch {
	case shape == nil:
	case c.reference:
		out.Completions = referenceCompletions(names.Service, slices.Contains(c.path, "env"))
	case !c.value && (shape.Form == language.ObjectForm || shape.Form == language.TruthOrForm):
		for _, k := range shape.Keys {
			if !c.present[k.Name] && !excluded(k.Name, c) {
				out.Completions = append(out.Completions,
					Completion{Label: k.Name, Insert: k.Name + insertAfter(k.Shape), Kind: "key", About: k.About})
			}
		}
	default:
		out.Completions = append(valueCompletions(shape, c, names), offered(names.Offers, c)...)
	}
	return out
}

func insertAfter(s *language.Shape) string {
	if s.Form == language.ObjectForm || s.Form == language.MapForm {
		return ":"
	}
	return ": "
}

// follow returns the shape at a path of keys, and the innermost key's definition.
func follow(s *language.Shape, path []string) (*language.Shape, *language.Key) {
	var key *language.Key
	for _, name := range path {
		for s != nil && s.Form == language.ListForm {
			s = s.Of
		}
		switch {
		case s == nil:
			return nil, nil
		case s.Form == language.MapForm:
			s, key = s.Of, nil
		case s.Form == language.ObjectForm, s.Form == language.TruthOrForm:
			if key = s.Key(name); key == nil {
				return nil, nil
			}
			s = key.Shape
		default:
			return nil, nil
		}
	}
	for s != nil && s.Form == language.ListForm {
		s = s.Of
	}
	return s, key
}

// excluded reports whether a key conflicts with a key that its mapping has already.
func excluded(key string, c context) bool {
	in := ""
	for _, name := range c.path {
		if slices.Contains([]string{"triggers", "send", "enter", "stages", "settings"}, name) {
			in = name
		}
	}
	switch in {
	case "triggers":
		for _, kind := range manifest.TriggerKinds() {
			if c.present[string(kind)] {
				return key != "enabled" && !slices.Contains(language.TriggerKeys(string(kind)), key)
			}
		}
	case "send":
		for _, way := range language.SendWays() {
			if c.present[way] {
				return !slices.Contains(language.SendKeys(way), key)
			}
		}
	case "enter":
		return key == "branch" && c.present["after"] || key == "after" && c.present["branch"]
	case "settings":
		of := language.LimitOf(key)
		return of != "" && limited(c) != "" && of != limited(c)
	case "stages":
		return key == "target" && c.present["targets"] || key == "targets" && c.present["target"]
	}
	return false
}

// limited returns the type of the only settings that have the limits which a mapping has; "" without limits.
func limited(c context) string {
	for _, key := range slices.Sorted(maps.Keys(c.present)) {
		if of := language.LimitOf(key); of != "" {
			return of
		}
	}
	return ""
}

// conflicts reports whether a value conflicts with another key of its mapping.
func conflicts(value string, c context) bool {
	switch c.key() {
	case "when":
		isPush := value == string(manifest.OnPush)
		return isPush && c.present["after"] || !isPush && c.present["branch"] ||
			c.present["allow_partial"] && value != string(manifest.OnRequest)
	case "type":
		return limited(c) != "" && value != limited(c)
	}
	return false
}

func referenceCompletions(s *manifest.Service, inEnv bool) []Completion {
	names := []string{"stage.name", "stage.region", "service", "version"}
	if s != nil {
		for _, setting := range s.Settings {
			names = append(names, "settings."+setting.Name)
		}
		for _, secret := range s.Secrets {
			if inEnv { // no other place takes a secret
				names = append(names, "secrets."+secret)
			}
		}
		for _, fn := range s.Functions {
			if fn.At("").HasRoute() {
				names = append(names, "functions."+fn.Name+".url")
			}
		}
	}
	return nameCompletions(names, "reference")
}

func nameCompletions(names []string, about string) []Completion {
	sort.Strings(names)
	out := []Completion{}
	for _, n := range names {
		out = append(out, Completion{Label: n, Insert: n, Kind: "name", About: about})
	}
	return out
}

func valueCompletions(s *language.Shape, c context, all Names) []Completion {
	service, values := all.Service, s.Choices
	switch {
	case s.Form == language.BoolForm, s.Form == language.TruthOrForm:
		values = []string{"true", "false"}
	case s.Form == language.SizeForm:
		values = []string{"128 MiB", "192 MiB", "256 MiB", "512 MiB", "1 GiB"}
	case s.Form == language.TimeForm:
		values = []string{"5s", "10s", "30s", "1m", "5m", "1h", "14d"}
	case s.Form == language.ZoneForm:
		values = []string{"UTC", "Europe/Oslo"}
	case s.Form == language.RouteForm:
		values = []string{"GET /", "POST /", "PUT /", "DELETE /", `"ANY /{rest...}"`}
	}
	out := []Completion{}
	for _, v := range values {
		if s.Misfit(strings.Trim(v, `"`), false, "") != nil || slices.Contains(c.listed, v) || conflicts(v, c) {
			continue // beyond the key's limits, already there, or against another key
		}
		out = append(out, Completion{Label: v, Insert: v, Kind: "value"})
	}
	if s.Form == language.CELForm {
		fields := expression.RuleFields()
		if slices.Contains(c.path, "expect") {
			fields = expression.CaseFields()
		}
		for _, f := range fields {
			out = append(out, Completion{Label: f.Name, Insert: f.Name, Kind: "name", About: f.Type + ": " + f.About})
		}
	}
	if service == nil {
		return out
	}
	var names []string
	switch c.key() {
	case "after_function":
		for _, fn := range service.Functions {
			if fn.Name != c.own { // a function cannot run after itself
				names = append(names, fn.Name)
			}
		}
	case "after":
		for _, st := range service.Stages {
			if st.Name == c.own {
				break // only stages before it
			}
			names = append(names, st.Name)
		}
	case "per_stage":
		for _, st := range service.Stages {
			if !c.present[st.Name] {
				names = append(names, st.Name)
			}
		}
	case "set":
		for _, st := range service.Settings {
			if !c.present[st.Name] {
				names = append(names, st.Name)
			}
		}
	case "resource":
		names = slices.DeleteFunc(resources(service), func(name string) bool {
			kind, _, _ := strings.Cut(name, "/")
			return lacks(all.Offers, kind, c.verbs)
		})
	}
	return append(out, nameCompletions(names, "of this service")...)
}

// offered suggests what the platforms offer: verbs for the kind of resource of the same permission, kinds,
// targets.
func offered(offers *check.Offers, c context) []Completion {
	switch c.key() {
	case "allow":
		kinds := offers.Kinds()
		if kind, _, ok := strings.Cut(c.of, "/"); ok {
			kinds = []string{kind}
		}
		var verbs []string
		for _, kind := range kinds {
			verbs = append(verbs, offers.Verbs(kind)...)
		}
		slices.Sort(verbs)
		verbs = slices.DeleteFunc(slices.Compact(verbs), func(v string) bool { return slices.Contains(c.listed, v) })
		return nameCompletions(verbs, "verb")
	case "resource":
		var out []Completion
		for _, kind := range offers.Kinds() {
			if lacks(offers, kind, c.verbs) {
				continue
			}
			out = append(out, Completion{Label: kind + "/", Insert: kind + "/", Kind: "name",
				About: strings.Join(offers.Verbs(kind), ", ")})
		}
		return out
	case "target", "targets":
		if offers != nil {
			return nameCompletions(slices.DeleteFunc(offers.Targets(), func(t string) bool { return slices.Contains(c.listed, t) }), "target")
		}
	}
	return nil
}

// lacks reports whether a kind of resource, if it is known, does not have some of the verbs.
func lacks(offers *check.Offers, kind string, verbs []string) bool {
	has := offers.Verbs(kind)
	return len(has) > 0 && slices.ContainsFunc(verbs, func(v string) bool { return v != "*" && !slices.Contains(has, v) })
}

// resources lists the resources that a service's permissions name already.
func resources(s *manifest.Service) []string {
	seen := map[string]bool{}
	var out []string
	for _, fn := range s.Functions {
		for _, p := range fn.At("").Permissions {
			if text, ok := p.Resource.Literal(); ok && !seen[text] {
				seen[text] = true
				out = append(out, text)
			}
		}
	}
	return out
}
