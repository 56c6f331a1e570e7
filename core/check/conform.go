package check

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"rudmar/core/access"
	"rudmar/core/diagnostic"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/route"
	"rudmar/core/timing"
	"rudmar/core/tree"
)

// checker checks one file's nodes against their shapes.
type checker struct {
	diagnostics []diagnostic.Diagnostic
	zones       map[string]bool
}

func newChecker() *checker {
	return &checker{zones: map[string]bool{}}
}

func (c *checker) add(code diagnostic.Code, at diagnostic.Range, format string, args ...any) *diagnostic.Diagnostic {
	c.diagnostics = append(c.diagnostics,
		diagnostic.Diagnostic{Code: code, Severity: diagnostic.Error, Range: at, Message: fmt.Sprintf(format, args...)})
	return &c.diagnostics[len(c.diagnostics)-1]
}

// misfit reports a text that does not fit; it ignores nil.
func (c *checker) misfit(at diagnostic.Range, m *language.Misfit) {
	if m == nil {
		return
	}
	d := c.add(m.Code, at, "%s", m.Message)
	if m.Text != "" {
		d.Mend(m.Title, m.Text)
	}
}

// conform checks a node against a shape; what is its name in messages.
func (c *checker) conform(n *tree.Node, s *language.Shape, what string) {
	if n.Kind == tree.Null {
		// An explicit null removes a key that defaults or the function set.
		if overrides := n.Rule == tree.OfFunction || n.Rule == tree.OfStage; s.Form != language.AnyForm &&
			(!overrides || n.Text == "") {
			c.add(diagnostic.CodeWrongKind, n.Range(), "%s has no value", what)
		}
		return
	}
	switch s.Form {
	case language.ObjectForm:
		c.object(n, s, what)
	case language.MapForm:
		if n.Kind != tree.Mapping {
			c.add(diagnostic.CodeWrongKind, n.Range(), "%s must be a mapping, key: value", what)
			return
		}
		for i, k := range n.Keys {
			if s.NamesItsKeys() && (!s.Underscores || !language.IsName(strings.ReplaceAll(k.Text, "_", "-"))) {
				c.misfit(k.Range(), language.NameMisfit(k.Text))
			}
			c.conform(n.Items[i], s.Of, k.Text)
		}
	case language.ListForm:
		if n.Kind != tree.Sequence {
			d := c.add(diagnostic.CodeWrongKind, n.Range(), "%s must be a list; put it in square brackets", what)
			if n.Kind == tree.Scalar && n.Line == n.EndLine && !n.Quoted {
				d.Mend("Convert to a list", "["+n.Text+"]")
			}
			return
		}
		c.filled(n, s, what)
		for _, item := range n.Items {
			c.conform(item, s.Of, "an item of "+what)
		}
	case language.EitherForm:
		c.either(n, s, what)
	case language.TruthOrForm:
		if n.Kind == tree.Scalar {
			c.scalar(n, &language.Shape{Form: language.BoolForm}, what)
			return
		}
		c.object(n, s, what)
	case language.AnyForm:
	default:
		if n.Kind != tree.Scalar {
			c.add(diagnostic.CodeWrongKind, n.Range(), "%s must be a single value", what)
			return
		}
		c.scalar(n, s, what)
	}
}

func (c *checker) filled(n *tree.Node, s *language.Shape, what string) {
	if s.Filled && len(n.Items) == 0 {
		c.add(diagnostic.CodeEmptyList, n.Range(), "%s is empty; add an item, or remove the key", what)
	}
}

func (c *checker) object(n *tree.Node, s *language.Shape, what string) {
	if n.Kind != tree.Mapping {
		c.add(diagnostic.CodeWrongKind, n.Range(), "%s must be a mapping with the keys %s", what, strings.Join(s.Names(), ", "))
		return
	}
	for i, k := range n.Keys {
		known := s.Key(k.Text)
		if known == nil {
			c.unknownKey(k, s, what)
			continue
		}
		c.conform(n.Items[i], known.Shape, k.Text)
	}
	for _, k := range s.Keys {
		if at := n.Get(k.Name); k.Required && at != nil && at.Kind == tree.Null && at.Text != "" {
			c.add(diagnostic.CodeWrongKind, at.Range(), "%s is required, so it cannot be %s", k.Name, at.Text)
		}
		if k.Required && n.Key(k.Name) == nil {
			c.add(diagnostic.CodeMissingKey, n.Range(), "%s is missing the key %q: %s", what, k.Name, k.About)
		}
	}
}

func (c *checker) unknownKey(k *tree.Node, s *language.Shape, what string) {
	if near := diagnostic.Nearest(k.Text, s.Names()); near != "" {
		c.add(diagnostic.CodeUnknownKey, k.Range(), "%q is not a key of %s", k.Text, what).Meant(near)
		return
	}
	c.add(diagnostic.CodeUnknownKey, k.Range(), "%q is not a key of %s (expected one of %s)", k.Text, what,
		strings.Join(s.Names(), ", "))
}

func (c *checker) either(n *tree.Node, s *language.Shape, what string) {
	switch n.Kind {
	case tree.Scalar:
		if !slices.Contains(s.Choices, n.Text) {
			c.add(diagnostic.CodeChoice, n.Range(), "%s must be %s, or a list of names in square brackets", what,
				strings.Join(s.Choices, " or ")).Meant(diagnostic.Nearest(n.Text, s.Choices))
		}
	case tree.Sequence:
		c.filled(n, s, what)
		for _, item := range n.Items {
			if item.Kind != tree.Scalar {
				c.add(diagnostic.CodeWrongKind, item.Range(), "an item of %s must be a name", what)
				continue
			}
			c.misfit(item.Range(), language.NameMisfit(item.Text))
		}
	default:
		c.add(diagnostic.CodeWrongKind, n.Range(), "%s must be %s, or a list of names", what, strings.Join(s.Choices, " or "))
	}
}

// scalar checks the meaning of a text: the language's own forms, and those that other packages parse.
func (c *checker) scalar(n *tree.Node, s *language.Shape, what string) {
	c.misfit(n.Range(), s.Misfit(n.Text, n.Quoted, what))
	switch s.Form {
	case language.RouteForm:
		if _, err := route.Parse(n.Text); err != nil {
			c.add(diagnostic.CodeRouteForm, n.Range(), "%q: %v", diagnostic.Clip(n.Text), err)
		}
	case language.CronForm:
		if _, err := timing.ParseCron(n.Text); err != nil {
			c.add(diagnostic.CodeCron, n.Range(), "%q: %v", diagnostic.Clip(n.Text), err)
		}
	case language.ZoneForm:
		if !c.knownZone(n.Text) {
			c.add(diagnostic.CodeZone, n.Range(), "%q is not a time zone of the IANA database; write one such as Europe/Oslo",
				diagnostic.Clip(n.Text))
		}
	case language.ResourceForm:
		c.template(n, what)
		if !strings.Contains(n.Text, "${") {
			if err := access.CheckPattern(n.Text); err != nil {
				c.add(diagnostic.CodePermissionForm, n.Range(), "%q: %v", diagnostic.Clip(n.Text), err)
			}
		}
	case language.TemplateForm:
		c.template(n, what)
	}
}

func (c *checker) knownZone(name string) bool {
	known, tried := c.zones[name]
	if !tried {
		_, err := time.LoadLocation(name)
		known = err == nil && name != "" && name != "Local"
		c.zones[name] = known
	}
	return known
}

func (c *checker) template(n *tree.Node, what string) {
	_, err := manifest.ParseTemplate(n.Text)
	var form *manifest.FormError
	if errors.As(err, &form) {
		c.add(diagnostic.CodeReferenceForm, n.Part(form.Offset, form.Length), "%s: %s", what, form.Problem)
	}
}
