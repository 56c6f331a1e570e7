package language

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"rudmar/core/diagnostic"
)

// Misfit is why a text is not a valid value of a shape.
type Misfit struct {
	Code    diagnostic.Code
	Message string
	// Title and Text fix it if the fix is certain; Text is "" if it is not.
	Title, Text string
}

// Misfit returns why a scalar's text does not fit the shape, or nil if it does, or if the text alone cannot
// decide. what names the key in the message.
func (s *Shape) Misfit(text string, quoted bool, what string) *Misfit {
	switch s.Form {
	case TextForm, PathForm, VerbForm:
		if strings.Contains(text, "${") {
			return misfit(diagnostic.CodeReferencePlace,
				"%s accepts no references; references are allowed in env, resource, queue, objects and match", what)
		}
	case NameForm:
		return NameMisfit(text)
	case BoolForm:
		return boolMisfit(text, what)
	case ChoiceForm:
		return choiceMisfit(text, s.Choices, what)
	case IntegerForm, NumberForm:
		return s.numberMisfit(text, quoted, what)
	case SizeForm, TimeForm, ShareForm:
		return s.measureMisfit(text, what)
	case DestinationForm:
		if !destinationPattern.MatchString(text) {
			return misfit(diagnostic.CodeChoice, "%q is not a host and port, such as api.example.com:443", diagnostic.Clip(text))
		}
	case TargetForm:
		platform, region, ok := strings.Cut(text, "/")
		if !ok || !IsName(platform) || !IsName(region) {
			return misfit(diagnostic.CodeTarget,
				"%q is not a target; a target is a platform and a region, such as local/north", diagnostic.Clip(text))
		}
	}
	return nil
}

// destinationPattern matches a host name, an IPv4 address or an IPv6 address in brackets, with a port.
var destinationPattern = regexp.MustCompile(
	`^([A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?(\.[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?)*|\[[0-9a-fA-F:.]+\]):` +
		`([1-9][0-9]{0,3}|[1-5][0-9]{4}|6[0-4][0-9]{3}|65[0-4][0-9]{2}|655[0-2][0-9]|6553[0-5])$`)

func misfit(code diagnostic.Code, format string, args ...any) *Misfit {
	return &Misfit{Code: code, Message: fmt.Sprintf(format, args...)}
}

// mend returns the fix.
func (m *Misfit) mend(title, text string) *Misfit {
	m.Title, m.Text = title, text
	return m
}

// IsName reports whether a text is a name: ^[a-z][a-z0-9-]{0,39}$.
func IsName(s string) bool {
	for i := range len(s) {
		letter, later := s[i] >= 'a' && s[i] <= 'z', s[i] >= '0' && s[i] <= '9' || s[i] == '-'
		if !letter && (i == 0 || !later) {
			return false
		}
	}
	return s != "" && len(s) <= 40
}

// NameMisfit returns why a text is not a name; nil if it is one.
func NameMisfit(text string) *Misfit {
	if IsName(text) {
		return nil
	}
	m := misfit(diagnostic.CodeName,
		"%q is not a name: use 1 to 40 lowercase letters, digits and hyphens, starting with a letter", diagnostic.Clip(text))
	fixed := strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'A' && r <= 'Z':
			return r - 'A' + 'a'
		case r == '_' || r == ' ' || r == '.':
			return '-'
		}
		return r
	}, text), "-")
	if IsName(fixed) {
		m.mend(fmt.Sprintf("Change to %q", fixed), fixed)
	}
	return m
}

func boolMisfit(text, what string) *Misfit {
	if text == "true" || text == "false" {
		return nil
	}
	m := misfit(diagnostic.CodeChoice, "%s must be true or false, not %q", what, diagnostic.Clip(text))
	if to, ok := map[string]string{"yes": "true", "on": "true", "no": "false", "off": "false", "True": "true",
		"False": "false"}[text]; ok {
		m.mend("Change to "+to, to)
	}
	return m
}

func choiceMisfit(text string, choices []string, what string) *Misfit {
	if slices.Contains(choices, text) {
		return nil
	}
	if list, item := strings.CutPrefix(what, "an item of "); item {
		what = "item of " + list
	}
	if near := diagnostic.Nearest(text, choices); near != "" {
		return misfit(diagnostic.CodeChoice, "unknown %[2]s %[1]q; did you mean %[3]q?", diagnostic.Clip(text), what,
			near).mend(fmt.Sprintf("Change to %q", near), near)
	}
	return misfit(diagnostic.CodeChoice, "unknown %[2]s %[1]q (expected %[3]s)", diagnostic.Clip(text), what,
		strings.Join(choices, ", "))
}

func (s *Shape) numberMisfit(text string, quoted bool, what string) *Misfit {
	f, err := strconv.ParseFloat(text, 64)
	switch {
	case err != nil || quoted:
		return misfit(diagnostic.CodeNotNumber, "%s must be a number, not %q", what, diagnostic.Clip(text))
	case s.Form == IntegerForm && f != float64(int64(f)):
		return misfit(diagnostic.CodeNotNumber, "%s must be a whole number, not %s", what, diagnostic.Clip(text))
	case (f < s.Min || f > s.Max) && s.Min == s.Max:
		return misfit(diagnostic.CodeRange, "%s must be %v", what, s.Min)
	case f < s.Min || f > s.Max:
		return misfit(diagnostic.CodeRange, "%s must be between %v and %v", what, s.Min, s.Max)
	}
	return nil
}

// measure is how a form of amounts is read and written.
type measure struct {
	parse   func(text string) (float64, error)
	format  func(amount float64) string
	example string // of its units
	unit    string // the one most often meant
}

func measureOf(f Form) measure {
	switch f {
	case SizeForm:
		return measure{
			parse:   func(text string) (float64, error) { n, err := ParseSize(text); return float64(n), err },
			format:  func(f float64) string { return FormatSize(int64(f)) },
			example: "MiB or GiB, as in 128 MiB", unit: " MiB",
		}
	case TimeForm:
		return measure{
			parse:   func(text string) (float64, error) { d, err := ParseTime(text); return d.Seconds(), err },
			format:  func(f float64) string { return FormatTime(time.Duration(f * float64(time.Second))) },
			example: "ms, s, m, h or d, as in 10s", unit: "s",
		}
	}
	return measure{
		parse:   ParseShare,
		format:  func(f float64) string { return strconv.FormatFloat(f*100, 'f', -1, 64) + "%" },
		example: "%, as in 10%", unit: "%",
	}
}

func (s *Shape) measureMisfit(text, what string) *Misfit {
	m := measureOf(s.Form)
	amount, err := m.parse(text)
	switch {
	case errors.Is(err, ErrNoUnit):
		return misfit(diagnostic.CodeUnit, "%s: %q has no unit; write %s", what, diagnostic.Clip(text),
			m.example).mend(fmt.Sprintf("Write %s%s", text, m.unit), text+m.unit)
	case errors.Is(err, ErrWrongUnit):
		out := misfit(diagnostic.CodeUnit, "%s: %q has the wrong unit; write %s", what, diagnostic.Clip(text), m.example)
		if proper, ok := properSize(text); ok && s.Form == SizeForm {
			out.mend("Write "+proper, proper)
		}
		return out
	case err != nil:
		return misfit(diagnostic.CodeNotNumber, "%s: %q is not a number with a unit; write %s", what,
			diagnostic.Clip(text), m.example)
	case amount < s.Min || amount > s.Max:
		return misfit(diagnostic.CodeRange, "%s must be between %s and %s", what, m.format(s.Min), m.format(s.Max))
	case s.Step > 0 && amount != float64(int64(amount/s.Step))*s.Step:
		up := m.format((float64(int64(amount/s.Step)) + 1) * s.Step)
		return misfit(diagnostic.CodeMultiple, "%s must be a multiple of %s; the next one is %s", what, m.format(s.Step),
			up).mend("Change to "+up, up)
	}
	return nil
}

// properSize mends the usual ways of writing MiB and GiB.
func properSize(text string) (string, bool) {
	number, unit, err := split(text)
	proper, ok := map[string]string{"mib": "MiB", "mb": "MiB", "m": "MiB", "mi": "MiB", "gib": "GiB", "gb": "GiB",
		"g": "GiB", "gi": "GiB"}[strings.ToLower(unit)]
	if err != nil || !ok {
		return "", false
	}
	return strconv.FormatFloat(number, 'f', -1, 64) + " " + proper, true
}
