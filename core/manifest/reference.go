package manifest

import (
	"fmt"
	"strings"

	"rudmar/core/diagnostic"
)

// ReferenceKind is the kind of a reference's target.
type ReferenceKind string

// The kinds of references.
const (
	ToSetting     ReferenceKind = "settings"
	ToSecret      ReferenceKind = "secrets"
	ToStageName   ReferenceKind = "stage.name"
	ToStageRegion ReferenceKind = "stage.region"
	ToService     ReferenceKind = "service"
	ToVersion     ReferenceKind = "version"
	ToURL         ReferenceKind = "functions"
)

// Part is a piece of a template: a literal text, or a reference.
type Part struct {
	Literal string
	Kind    ReferenceKind // "" for a literal
	Name    string        // of the setting, secret or function
	Offset  int           // in bytes, of the reference in the text
	Length  int
}

// Template is a text with references in it.
type Template []Part

// Literal returns the text of a template without references.
func (t Template) Literal() (string, bool) {
	switch {
	case len(t) == 0:
		return "", true
	case len(t) == 1 && t[0].Kind == "":
		return t[0].Literal, true
	}
	return "", false
}

// FormError reports a malformed reference, and its position in the text.
type FormError struct {
	Offset, Length int
	Problem        string
}

func (e *FormError) Error() string { return e.Problem }

// ParseTemplate parses a text with ${…} references; $${ is a literal ${. The error is a *FormError.
func ParseTemplate(text string) (Template, error) {
	var out Template
	literal := strings.Builder{}
	flush := func() {
		if literal.Len() > 0 {
			out = append(out, Part{Literal: literal.String()})
			literal.Reset()
		}
	}
	for at := 0; at < len(text); {
		rest := text[at:]
		switch {
		case strings.HasPrefix(rest, "$${"):
			literal.WriteString("${")
			at += 3
		case strings.HasPrefix(rest, "${"):
			end := strings.IndexByte(rest, '}')
			if end < 0 {
				return nil, &FormError{at, len(rest), "this reference is not closed with }; write $${ for a literal ${"}
			}
			part, err := parseReference(rest[2:end])
			if err != nil {
				return nil, &FormError{at, end + 1, err.Error()}
			}
			flush()
			part.Offset, part.Length = at, end+1
			out = append(out, part)
			at += end + 1
		default:
			literal.WriteByte(rest[0])
			at++
		}
	}
	flush()
	return out, nil
}

func parseReference(inner string) (Part, error) {
	switch inner {
	case "stage.name", "stage.region", "service", "version":
		return Part{Kind: ReferenceKind(inner)}, nil
	}
	head, name, dotted := strings.Cut(inner, ".")
	switch head {
	case "settings", "secrets":
		if dotted && name != "" && !strings.ContainsAny(name, " .{$") {
			return Part{Kind: ReferenceKind(head), Name: name}, nil
		}
		return Part{}, fmt.Errorf("a reference to %s is written ${%s.name}", head, head)
	case "functions":
		function, value, _ := strings.Cut(name, ".")
		if function != "" && value == "url" {
			return Part{Kind: ToURL, Name: function}, nil
		}
		return Part{}, fmt.Errorf("a function's address is written ${functions.name.url}")
	}
	known := []string{"settings", "secrets", "stage.name", "stage.region", "service", "version", "functions"}
	message := fmt.Sprintf("unknown reference %q", inner)
	if near := diagnostic.Nearest(inner, known); near != "" {
		return Part{}, fmt.Errorf("%s; did you mean %q?", message, near)
	}
	if near := diagnostic.Nearest(head, known); near != "" {
		return Part{}, fmt.Errorf("%s; did you mean %q?", message, near)
	}
	return Part{}, fmt.Errorf(
		"%s (expected settings, secrets, stage.name, stage.region, service, version or functions.name.url)", message)
}
