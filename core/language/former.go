package language

import (
	"regexp"
	"strings"

	"rudmar/core/diagnostic"
	"rudmar/core/tree"
)

// former is a key of manifests before its present name.
type former struct {
	key, now string
	values   map[string]string // former value → present one; others are kept
}

// formerKeys is the one table of former keys. A former key applies where the object has
// the present key and not the former one.
func formerKeys() []former {
	return []former{
		{"about", "description", nil},
		{"at_once", "max_concurrency", nil},
		{"keep_logs", "log_retention", nil},
		{"leave_out", "exclude", nil},
		{"was", "renamed_from", nil},
		{"off", "enabled", map[string]string{"true": "false", "false": "true"}},
		{"in", "per_stage", nil},
		{"on", "when", nil},
		{"on", "events", nil},
		{"function", "after_function", nil},
		{"batch", "batch_size", nil},
		{"wait", "max_wait", nil},
		{"may", "allow", nil},
		{"of", "resource", nil},
		{"of", "values", nil},
		{"strict", "wildcards", map[string]string{"true": "forbid", "false": "allow"}},
		{"author_may", "allow_pushers", nil},
		{"choice", "allow_partial", nil},
		{"together", "target_order", map[string]string{"true": "parallel", "false": "sequential"}},
		{"prove_between", "target_order", map[string]string{"true": "test_each", "false": "sequential"}},
		{"calls", "min_invocations", nil},
		{"over", "period", nil},
		{"prove", "run_cases", nil},
		{"harmless", "no_side_effects", nil},
	}
}

// formerByKey returns the table of former keys by the former key.
func formerByKey() map[string][]former {
	out := map[string][]former{}
	for _, f := range formerKeys() {
		out[f.key] = append(out[f.key], f)
	}
	return out
}

// formerValues is the one table of former values, by the present key.
func formerValues(key string) map[string]string {
	switch key {
	case "open_to":
		return map[string]string{"members": "authenticated"}
	case "type":
		return map[string]string{"truth": "boolean", "text": "string", "choice": "enum"}
	case "run_cases":
		return map[string]string{"harmless": "no_side_effects"}
	}
	return nil
}

// formerFields is the one table of former fields of rules.
func formerFields() map[string]string {
	return map[string]string{
		"consequences.opened":   "impact.public_routes",
		"consequences.widened":  "impact.wider_routes",
		"consequences.closed":   "impact.closed_routes",
		"consequences.moved":    "impact.rerouted",
		"consequences.gained":   "impact.new_permissions",
		"consequences.through":  "impact.indirect_permissions",
		"consequences.lost":     "impact.removed_permissions",
		"consequences.loosened": "impact.weaker_gates",
		"consequences.removed":  "impact.data_loss",
		"consequences.cold":     "impact.cold_starts",
		"metrics.calls":         "metrics.invocations",
	}
}

var formerField = regexp.MustCompile(`\b(consequences|metrics)\s*\.\s*[a-z]+\b`)

// PresentRule returns a rule with its former fields replaced by the present ones.
func PresentRule(expression string) string {
	fields := formerFields()
	return formerField.ReplaceAllStringFunc(expression, func(found string) string {
		if now, ok := fields[strings.Join(strings.Fields(strings.ReplaceAll(found, ".", " ")), ".")]; ok {
			return now
		}
		return found
	})
}

// FormerUse is a use of a former key or value in a manifest.
type FormerUse struct {
	At    diagnostic.Range // the span of the former text
	Was   string
	Now   string
	Edits []diagnostic.Edit // the replacement, with its value if that changes too
}

// Present rewrites the former keys and values below a node to the present ones, in the
// tree alone, and returns what it replaced. A tree without former keys stays as it is.
func (l *Language) Present(file string, root *tree.Node) []FormerUse {
	p := &presenter{keys: l.former}
	p.node(root, l.Of(file), "")
	return p.uses
}

type presenter struct {
	keys map[string][]former
	uses []FormerUse
}

func (p *presenter) node(n *tree.Node, s *Shape, key string) {
	if n == nil || s == nil {
		return
	}
	switch {
	case n.Kind == tree.Scalar && s.Form == CELForm:
		if now := PresentRule(n.Text); now != n.Text {
			p.value(n, now)
		}
	case n.Kind == tree.Scalar:
		if now, ok := formerValues(key)[n.Text]; ok {
			p.value(n, now)
		}
	case n.Kind == tree.Mapping && s.Form == ObjectForm:
		p.object(n, s)
	case n.Kind == tree.Mapping && s.Form == MapForm:
		for _, item := range n.Items {
			p.node(item, s.Of, "")
		}
	case n.Kind == tree.Sequence && s.Form == ListForm:
		for _, item := range n.Items {
			p.node(item, s.Of, "")
		}
	}
}

func (p *presenter) object(n *tree.Node, s *Shape) {
	for i, k := range n.Keys {
		if f, ok := p.former(k.Text, s); ok {
			use := FormerUse{At: k.Range(), Was: k.Text, Now: f.now,
				Edits: []diagnostic.Edit{{Range: k.Range(), Text: f.now}}}
			k.Text = f.now
			if item := n.Items[i]; item.Kind == tree.Scalar && f.values[item.Text] != "" {
				now := f.values[item.Text]
				use.Was, use.Now = use.Was+": "+item.Text, use.Now+": "+now
				use.Edits = append(use.Edits, diagnostic.Edit{Range: item.Range(), Text: now})
				item.Text = now
			}
			p.uses = append(p.uses, use)
		}
		if known := s.Key(k.Text); known != nil {
			p.node(n.Items[i], known.Shape, k.Text)
		}
	}
	p.orderOnce(n)
}

// orderOnce drops a target_order that says no more than the default, if another key was
// rewritten to target_order too.
func (p *presenter) orderOnce(n *tree.Node) {
	last := -1
	for i := 0; i < len(n.Keys); i++ {
		if n.Keys[i].Text != "target_order" {
			continue
		}
		if last < 0 {
			last = i
			continue
		}
		drop := i
		if n.Items[last].Value() == "sequential" {
			drop, last = last, i-1
		} else if n.Items[i].Value() != "sequential" {
			continue // both keys have values: the check reports the duplicate
		}
		n.Keys = append(n.Keys[:drop:drop], n.Keys[drop+1:]...)
		n.Items = append(n.Items[:drop:drop], n.Items[drop+1:]...)
		i--
	}
}

func (p *presenter) former(key string, s *Shape) (former, bool) {
	if len(p.keys[key]) == 0 || s.Key(key) != nil {
		return former{}, false
	}
	for _, f := range p.keys[key] {
		if s.Key(f.now) != nil {
			return f, true
		}
	}
	return former{}, false
}

func (p *presenter) value(n *tree.Node, now string) {
	p.uses = append(p.uses, FormerUse{At: n.Range(), Was: n.Text, Now: now,
		Edits: []diagnostic.Edit{{Range: n.Range(), Text: plain(now, n.Quoted)}}})
	n.Text = now
}

// plain returns a value as YAML: in double quotes if it was quoted before.
func plain(text string, quoted bool) string {
	if quoted {
		return `"` + strings.ReplaceAll(strings.ReplaceAll(text, `\`, `\\`), `"`, `\"`) + `"`
	}
	return text
}
