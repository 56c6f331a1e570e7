package manifest

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"rudmar/core/access"
	"rudmar/core/route"
	"rudmar/core/timing"
)

// checker holds one file's nodes against their shapes.
type checker struct {
	diagnostics []Diagnostic
	zones       map[string]bool
}

func newChecker() *checker {
	return &checker{zones: map[string]bool{}}
}

// isName tells whether a text is a name: ^[a-z][a-z0-9-]{0,39}$.
func isName(s string) bool {
	for i := range len(s) {
		letter, later := s[i] >= 'a' && s[i] <= 'z', s[i] >= '0' && s[i] <= '9' || s[i] == '-'
		if !letter && (i == 0 || !later) {
			return false
		}
	}
	return s != "" && len(s) <= 40
}

func (c *checker) add(code Code, at Range, format string, args ...any) *Diagnostic {
	c.diagnostics = append(c.diagnostics, Diagnostic{Code: code, Severity: Error, Range: at, Message: fmt.Sprintf(format, args...)})
	return &c.diagnostics[len(c.diagnostics)-1]
}

func replaceWith(title string, at Range, text string) *Fix {
	return &Fix{Title: title, Edits: []Edit{{Range: at, Text: text}}}
}

// conform checks a node against a shape; what names the thing in messages.
func (c *checker) conform(n *Node, s *shape, what string) {
	if n.Kind == Null {
		// A null that is written takes a key away that defaults or the function gave.
		if overrides := n.Rule == OfFunction || n.Rule == OfStage; s.form != formAny && (!overrides || n.Text == "") {
			c.add(CodeWrongKind, n.Range(), "%s has no value", what)
		}
		return
	}
	switch s.form {
	case formObject:
		c.object(n, s, what)
	case formMap:
		if n.Kind != Mapping {
			c.add(CodeWrongKind, n.Range(), "%s takes a mapping, key: value", what)
			return
		}
		for i, k := range n.Keys {
			if named := s.of.form == formObject || s.of.form == formCEL; named && (!s.underscores || !isName(strings.ReplaceAll(k.Text, "_", "-"))) {
				c.checkName(k)
			}
			c.conform(n.Items[i], s.of, k.Text)
		}
	case formList:
		if n.Kind != Sequence {
			d := c.add(CodeWrongKind, n.Range(), "%s takes a list; put it in square brackets", what)
			if n.Kind == Scalar && n.line == n.endLine && !n.Quoted {
				d.Fix = replaceWith("Make it a list", n.Range(), "["+n.Text+"]")
			}
			return
		}
		for _, item := range n.Items {
			c.conform(item, s.of, "an item of "+what)
		}
	case formEither:
		c.either(n, s, what)
	case formAny:
	default:
		if n.Kind != Scalar {
			c.add(CodeWrongKind, n.Range(), "%s takes a single value", what)
			return
		}
		c.scalar(n, s, what)
	}
}

func (c *checker) object(n *Node, s *shape, what string) {
	if n.Kind != Mapping {
		c.add(CodeWrongKind, n.Range(), "%s takes a mapping with the keys %s", what, strings.Join(s.names(), ", "))
		return
	}
	for i, k := range n.Keys {
		known := s.key(k.Text)
		if known == nil {
			c.unknownKey(k, s, what)
			continue
		}
		c.conform(n.Items[i], known.shape, k.Text)
	}
	for _, k := range s.keys {
		if k.required && n.Key(k.name) == nil {
			c.add(CodeMissingKey, n.Range(), "%s needs the key %q: %s", what, k.name, k.about)
		}
	}
}

func (c *checker) unknownKey(k *Node, s *shape, what string) {
	near := Nearest(k.Text, s.names())
	if near == "" {
		c.add(CodeUnknownKey, k.Range(), "%q is not a key of %s; its keys are %s", k.Text, what, strings.Join(s.names(), ", "))
		return
	}
	d := c.add(CodeUnknownKey, k.Range(), "%q is not a key of %s; did you mean %q?", k.Text, what, near)
	d.Fix = replaceWith(fmt.Sprintf("Change to %q", near), k.Range(), near)
}

func (c *checker) either(n *Node, s *shape, what string) {
	switch n.Kind {
	case Scalar:
		for _, choice := range s.choices {
			if n.Text == choice {
				return
			}
		}
		d := c.add(CodeChoice, n.Range(), "%s takes %s, or a list of names in square brackets", what, strings.Join(s.choices, " or "))
		if near := Nearest(n.Text, s.choices); near != "" {
			d.Message += fmt.Sprintf("; did you mean %q?", near)
			d.Fix = replaceWith(fmt.Sprintf("Change to %q", near), n.Range(), near)
		}
	case Sequence:
		for _, item := range n.Items {
			if item.Kind != Scalar {
				c.add(CodeWrongKind, item.Range(), "an item of %s is a name", what)
				continue
			}
			c.checkName(item)
		}
	default:
		c.add(CodeWrongKind, n.Range(), "%s takes %s, or a list of names", what, strings.Join(s.choices, " or "))
	}
}

func (c *checker) checkName(n *Node) {
	if isName(n.Text) {
		return
	}
	d := c.add(CodeName, n.Range(), "%q is not a name: lower case letters, digits and hyphens, 1 to 40, starting with a letter", clip(n.Text))
	fixed := strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'A' && r <= 'Z':
			return r - 'A' + 'a'
		case r == '_' || r == ' ' || r == '.':
			return '-'
		}
		return r
	}, n.Text), "-")
	if isName(fixed) {
		d.Fix = replaceWith(fmt.Sprintf("Change to %q", fixed), n.Range(), fixed)
	}
}

func clip(s string) string {
	if r := []rune(s); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return s
}

func (c *checker) scalar(n *Node, s *shape, what string) {
	switch s.form {
	case formText, formPath, formVerb, formCEL:
		if !strings.Contains(n.Text, "${") || s.form == formCEL {
			return
		}
		c.add(CodeReferencePlace, n.Range(), "%s takes no reference; references can stand in env, of, queue, objects and match", what)
	case formName:
		c.checkName(n)
	case formBool:
		if n.Text != "true" && n.Text != "false" {
			d := c.add(CodeChoice, n.Range(), "%s is true or false, not %q", what, clip(n.Text))
			if to, ok := map[string]string{"yes": "true", "on": "true", "no": "false", "off": "false", "True": "true", "False": "false"}[n.Text]; ok {
				d.Fix = replaceWith("Change to "+to, n.Range(), to)
			}
		}
	case formChoice:
		c.choice(n, s, what)
	case formInteger, formNumber:
		c.number(n, s, what)
	case formSize, formTime, formShare:
		c.measure(n, s, what)
	case formRoute:
		if _, err := route.Parse(n.Text); err != nil {
			c.add(CodeRouteForm, n.Range(), "%q: %v", clip(n.Text), err)
		}
	case formCron:
		if _, err := timing.ParseCron(n.Text); err != nil {
			c.add(CodeCron, n.Range(), "%q: %v", clip(n.Text), err)
		}
	case formZone:
		c.zone(n)
	case formTarget:
		platform, region, ok := strings.Cut(n.Text, "/")
		if !ok || !isName(platform) || !isName(region) {
			c.add(CodeTarget, n.Range(), "%q is not a target; a target is a platform and a region, such as local/north", clip(n.Text))
		}
	case formResource:
		c.template(n, what)
		if !strings.Contains(n.Text, "${") {
			if err := access.CheckPattern(n.Text); err != nil {
				c.add(CodePermissionForm, n.Range(), "%q: %v", clip(n.Text), err)
			}
		}
	case formTemplate:
		c.template(n, what)
	}
}

func (c *checker) choice(n *Node, s *shape, what string) {
	for _, choice := range s.choices {
		if n.Text == choice {
			return
		}
	}
	d := c.add(CodeChoice, n.Range(), "%q is not a %s; there are %s", clip(n.Text), what, strings.Join(s.choices, ", "))
	if near := Nearest(n.Text, s.choices); near != "" {
		d.Message = fmt.Sprintf("%q is not a %s; did you mean %q?", clip(n.Text), what, near)
		d.Fix = replaceWith(fmt.Sprintf("Change to %q", near), n.Range(), near)
	}
}

func (c *checker) number(n *Node, s *shape, what string) {
	f, err := strconv.ParseFloat(n.Text, 64)
	switch {
	case err != nil || n.Quoted:
		c.add(CodeNotNumber, n.Range(), "%s takes a number, not %q", what, clip(n.Text))
	case s.form == formInteger && f != float64(int64(f)):
		c.add(CodeNotNumber, n.Range(), "%s takes a whole number, not %s", what, clip(n.Text))
	case f < s.min || f > s.max:
		c.add(CodeRange, n.Range(), "%s lies from %v to %v", what, s.min, s.max)
	}
}

func (c *checker) measure(n *Node, s *shape, what string) {
	var amount float64
	var err error
	var example string
	format := func(f float64) string { return FormatTime(time.Duration(f * float64(time.Second))) }
	switch s.form {
	case formSize:
		var bytes int64
		bytes, err = ParseSize(n.Text)
		amount, example = float64(bytes), "MiB or GiB, as in 128 MiB"
		format = func(f float64) string { return FormatSize(int64(f)) }
	case formTime:
		var d time.Duration
		d, err = ParseTime(n.Text)
		amount, example = d.Seconds(), "ms, s, m, h or d, as in 10s"
	case formShare:
		amount, err = ParseShare(n.Text)
		example = "%, as in 10%"
		format = func(f float64) string { return strconv.FormatFloat(f*100, 'f', -1, 64) + "%" }
	}
	switch {
	case errors.Is(err, ErrNoUnit):
		d := c.add(CodeUnit, n.Range(), "%s: %q has no unit; write %s", what, clip(n.Text), example)
		unit := map[form]string{formSize: " MiB", formTime: "s", formShare: "%"}[s.form]
		d.Fix = replaceWith(fmt.Sprintf("Write %s%s", n.Text, unit), n.Range(), n.Text+unit)
	case errors.Is(err, ErrWrongUnit):
		d := c.add(CodeUnit, n.Range(), "%s: %q has another unit; write %s", what, clip(n.Text), example)
		if text, ok := properSize(n.Text); ok && s.form == formSize {
			d.Fix = replaceWith("Write "+text, n.Range(), text)
		}
	case err != nil:
		c.add(CodeNotNumber, n.Range(), "%s: %q is not a number with a unit; write %s", what, clip(n.Text), example)
	case amount < s.min || amount > s.max:
		c.add(CodeRange, n.Range(), "%s lies from %s to %s", what, format(s.min), format(s.max))
	case s.step > 0 && amount != float64(int64(amount/s.step))*s.step:
		up := format((float64(int64(amount/s.step)) + 1) * s.step)
		d := c.add(CodeMultiple, n.Range(), "%s is a multiple of %s; the next one is %s", what, format(s.step), up)
		d.Fix = replaceWith("Change to "+up, n.Range(), up)
	}
}

// properSize mends the usual ways of writing MiB and GiB.
func properSize(text string) (string, bool) {
	number, unit, err := split(text)
	proper, ok := map[string]string{"mib": "MiB", "mb": "MiB", "m": "MiB", "mi": "MiB", "gib": "GiB", "gb": "GiB", "g": "GiB", "gi": "GiB"}[strings.ToLower(unit)]
	if err != nil || !ok {
		return "", false
	}
	return strconv.FormatFloat(number, 'f', -1, 64) + " " + proper, true
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

func (c *checker) zone(n *Node) {
	if !c.knownZone(n.Text) {
		c.add(CodeZone, n.Range(), "%q is not a time zone of the IANA database; write one such as Europe/Oslo", clip(n.Text))
	}
}

func (c *checker) template(n *Node, what string) {
	_, err := ParseTemplate(n.Text)
	var form *FormError
	if errors.As(err, &form) {
		c.add(CodeReferenceForm, n.part(form.Offset, form.Length), "%s: %s", what, form.Problem)
	}
}

// part gives the place of a stretch of a scalar's text; the whole scalar where
// the text may be written otherwise than it reads.
func (n *Node) part(offset, length int) Range {
	at := n.Range()
	if strings.ContainsAny(n.Text, "\n\\") {
		return at
	}
	if n.Quoted {
		at.Column++
	}
	at.Column += len([]rune(n.Text[:offset]))
	at.EndColumn = at.Column + len([]rune(n.Text[offset:min(len(n.Text), offset+length)]))
	return at
}
