package manifest

import (
	"slices"
	"sort"
	"strings"
)

// Completion is something that may be written where the cursor stands.
type Completion struct {
	Label  string `json:"label"`
	Insert string `json:"insert"`
	Kind   string `json:"kind"` // key, value or name
	About  string `json:"about"`
}

// Assist is what is known of a place in a manifest while it is written.
type Assist struct {
	// Path is the keys that lead to the place.
	Path []string `json:"path"`
	// About says what the innermost key is for.
	About       string       `json:"about"`
	Completions []Completion `json:"completions"`
}

// AssistAt tells what may be written at a place, and what stands there. It goes
// by the text alone, so that it also helps in a file that is not whole yet.
// Lines and columns count from 1. The service, which may be nil, gives names.
func (l *Language) AssistAt(file, text string, line, column int, s *Service) Assist {
	root := l.service
	switch {
	case isCase(file):
		root = l.caseFile
	case strings.HasSuffix(file, FunctionFile):
		root = l.function
	}
	c := contextAt(text, line, column)
	shape, key := follow(root, c.path)
	out := Assist{Path: c.path, Completions: []Completion{}}
	if key != nil {
		out.About = key.about
		if key.builtIn != "" {
			out.About += " Where nothing is said: " + key.builtIn + "."
		}
	}
	switch {
	case shape == nil:
	case c.reference:
		out.Completions = referenceCompletions(s)
	case !c.value && shape.form == formObject:
		for _, k := range shape.keys {
			if !c.present[k.name] {
				out.Completions = append(out.Completions, Completion{Label: k.name, Insert: k.name + insertAfter(k.shape), Kind: "key", About: k.about})
			}
		}
	default:
		out.Completions = append(valueCompletions(shape, c.path, s), l.offered(c)...)
	}
	return out
}

func insertAfter(s *shape) string {
	if s.form == formObject || s.form == formMap {
		return ":"
	}
	return ": "
}

// follow gives the shape at a path of keys, and the innermost key's definition.
func follow(s *shape, path []string) (*shape, *keyShape) {
	var key *keyShape
	for _, name := range path {
		for s != nil && s.form == formList {
			s = s.of
		}
		switch {
		case s == nil:
			return nil, nil
		case s.form == formMap:
			s, key = s.of, nil
		case s.form == formObject:
			if key = s.key(name); key == nil {
				return nil, nil
			}
			s = key.shape
		default:
			return nil, nil
		}
	}
	for s != nil && s.form == formList {
		s = s.of
	}
	return s, key
}

func referenceCompletions(s *Service) []Completion {
	names := []string{"stage.name", "stage.region", "service", "version"}
	if s != nil {
		for _, setting := range s.Settings {
			names = append(names, "settings."+setting.Name)
		}
		for _, secret := range s.Secrets {
			names = append(names, "secrets."+secret)
		}
		for _, fn := range s.Functions {
			names = append(names, "functions."+fn.Name+".url")
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

func valueCompletions(s *shape, path []string, service *Service) []Completion {
	values := s.choices
	switch {
	case s.form == formBool:
		values = []string{"true", "false"}
	case s.form == formSize:
		values = []string{"128 MiB", "192 MiB", "256 MiB", "512 MiB", "1 GiB"}
	case s.form == formTime:
		values = []string{"5s", "10s", "30s", "1m", "5m", "1h", "14d"}
	case s.form == formZone:
		values = []string{"UTC", "Europe/Oslo"}
	case s.form == formRoute:
		values = []string{"GET /", "POST /", "PUT /", "DELETE /", "ANY /{rest...}"}
	}
	out := []Completion{}
	for _, v := range values {
		out = append(out, Completion{Label: v, Insert: v, Kind: "value"})
	}
	last := ""
	if len(path) > 0 {
		last = path[len(path)-1]
	}
	if service == nil {
		return out
	}
	var names []string
	switch last {
	case "function":
		for _, fn := range service.Functions {
			names = append(names, fn.Name)
		}
	case "after", "in":
		for _, st := range service.Stages {
			names = append(names, st.Name)
		}
	case "set":
		for _, st := range service.Settings {
			names = append(names, st.Name)
		}
	case "of":
		names = service.resources()
	}
	return append(out, nameCompletions(names, "of this service")...)
}

// offered completes what the platforms have: verbs for the kind of resource
// that the same permission names, kinds, targets.
func (l *Language) offered(c context) []Completion {
	last := ""
	if len(c.path) > 0 {
		last = c.path[len(c.path)-1]
	}
	switch last {
	case "may":
		kinds := l.offers.kinds()
		if kind, _, ok := strings.Cut(c.of, "/"); ok {
			kinds = []string{kind}
		}
		var verbs []string
		for _, kind := range kinds {
			verbs = append(verbs, l.offers.verbs(kind)...)
		}
		slices.Sort(verbs)
		return nameCompletions(slices.Compact(verbs), "verb")
	case "of":
		var out []Completion
		for _, kind := range l.offers.kinds() {
			out = append(out, Completion{Label: kind + "/", Insert: kind + "/", Kind: "name", About: strings.Join(l.offers.verbs(kind), ", ")})
		}
		return out
	case "target", "targets":
		if l.offers != nil {
			return nameCompletions(l.offers.targets(), "target")
		}
	}
	return nil
}

// resources lists what the service's permissions name already.
func (s *Service) resources() []string {
	seen := map[string]bool{}
	var out []string
	for _, fn := range s.Functions {
		for _, p := range fn.At("").Permissions {
			if text, ok := p.Of.Literal(); ok && !seen[text] {
				seen[text] = true
				out = append(out, text)
			}
		}
	}
	return out
}

// context is where a cursor stands.
type context struct {
	path      []string
	value     bool            // behind a key's colon
	reference bool            // behind ${
	present   map[string]bool // keys that stand in the same mapping
	of        string          // what the same line says behind of:
}

// contextAt finds the keys that lead to a place by indentation, and within the
// line by its braces.
func contextAt(text string, line, column int) context {
	lines := strings.Split(text, "\n")
	if line < 1 || line > len(lines) {
		return context{}
	}
	runes := []rune(lines[line-1])
	before := string(runes[:max(0, min(column-1, len(runes)))])
	c := context{present: map[string]bool{}}
	dash := isItem(before)
	c.path = parents(lines, line-1, indentOf(before), dash)
	c.inLine(strings.TrimLeft(strings.TrimLeft(before, " "), "- "))
	if _, of, ok := strings.Cut(lines[line-1], "of:"); ok {
		c.of = strings.Trim(strings.TrimSpace(of), `"'{} `)
	}
	if open := strings.LastIndex(before, "${"); open >= 0 && !strings.Contains(before[open:], "}") {
		c.reference = true
	}
	if !strings.Contains(before, "{") {
		c.siblings(lines, line-1, indentOf(before))
	}
	return c
}

func isItem(s string) bool { return strings.HasPrefix(strings.TrimLeft(s, " "), "- ") }

// indentOf gives the column of the first key of a line, behind a list's dash.
func indentOf(s string) int { return len(s) - len(strings.TrimLeft(s, " -")) }

// keyOf gives the key of a line, or "".
func keyOf(s string) string {
	s = strings.TrimLeft(s, " -")
	key, _, found := strings.Cut(s, ":")
	if !found || key == "" || strings.ContainsAny(key, " {[#\"'") {
		return ""
	}
	return key
}

// parents gives the keys that the line at an indentation stands under.
func parents(lines []string, at, indent int, dash bool) []string {
	var path []string
	if dash {
		indent-- // the dash itself may stand where the parent's key does
	}
	for i := at - 1; i >= 0 && indent > 0; i-- {
		trimmed := strings.TrimSpace(lines[i])
		if trimmed == "" || strings.HasPrefix(trimmed, "#") {
			continue
		}
		own := indentOf(lines[i])
		key := keyOf(lines[i])
		if own >= indent || key == "" || dash && isItem(lines[i]) {
			continue
		}
		// A key with a value behind it is no parent, but a sibling of one.
		if rest := strings.TrimSpace(trimmed[strings.Index(trimmed, ":")+1:]); rest != "" && !strings.HasPrefix(rest, "#") {
			if !isItem(lines[i]) {
				continue
			}
			indent, dash = own-1, true
			continue
		}
		path = append([]string{key}, path...)
		indent, dash = own, isItem(lines[i])
		if dash {
			indent--
		}
	}
	return path
}

// inLine follows the braces of what stands before the cursor in its line.
func (c *context) inLine(s string) {
	type level struct {
		key     string
		present map[string]bool
	}
	var open []level
	key, word, present := "", "", c.present
	var quote rune
	for _, r := range s {
		switch {
		case quote != 0:
			if r == quote {
				quote = 0
			}
		case r == '"' || r == '\'':
			quote, word = r, ""
		case r == ':':
			key, word = strings.TrimSpace(word), ""
			present[key] = true
		case r == '{' || r == '[':
			open = append(open, level{key, present})
			if r == '{' {
				key, present = "", map[string]bool{}
			}
			word = ""
		case (r == '}' || r == ']') && len(open) > 0:
			key, present = open[len(open)-1].key, open[len(open)-1].present
			open = open[:len(open)-1]
		case r == ',':
			if len(open) > 0 && len(present) > 0 && key != "" && open[len(open)-1].key != key {
				key = ""
			}
			word = ""
		default:
			word += string(r)
		}
	}
	for i, l := range open {
		if l.key != "" && (i == 0 || open[i-1].key != l.key) {
			c.path = append(c.path, l.key)
		}
	}
	if key != "" && (len(open) == 0 || open[len(open)-1].key != key) {
		c.path = append(c.path, key)
		c.value = true
	} else if key != "" {
		c.value = true
	}
	c.present = present
}

// siblings gathers the keys of the mapping that the line at an indentation belongs to.
func (c *context) siblings(lines []string, at, indent int) {
	for _, step := range []int{-1, 1} {
		for i := at + step; i >= 0 && i < len(lines); i += step {
			if strings.TrimSpace(lines[i]) == "" {
				continue
			}
			own := indentOf(lines[i])
			if own < indent || step > 0 && isItem(lines[i]) && own == indent {
				break
			}
			if own == indent {
				c.present[keyOf(lines[i])] = true
			}
			if isItem(lines[i]) && own == indent {
				break
			}
		}
	}
}
