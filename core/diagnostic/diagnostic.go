// Package diagnostic defines diagnostics: locations in files, stable codes, fixes and their
// application, the explanation of each code, and output formats for other tools.
//
// All its functions can be called concurrently.
package diagnostic

import (
	"fmt"
	"sort"
	"strings"
	"unicode/utf8"
)

// Severity reports whether a diagnostic prevents a build.
type Severity string

// The two severities. An error stops a build; a warning does not.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
)

// Range is a range of text in one file. Lines and columns count from 1; columns count Unicode code points; the
// end is exclusive.
type Range struct {
	File      string `json:"file"`
	Line      int    `json:"line"`
	Column    int    `json:"column"`
	EndLine   int    `json:"endLine"`
	EndColumn int    `json:"endColumn"`
}

// String returns the place in the form file:line:column.
func (r Range) String() string { return fmt.Sprintf("%s:%d:%d", r.File, r.Line, r.Column) }

// Edit replaces the text of a range. An empty range inserts.
type Edit struct {
	Range
	Text string `json:"text"`
}

// Fix is a set of edits that certainly resolves a diagnostic.
type Fix struct {
	Title string `json:"title"`
	Edits []Edit `json:"edits"`
}

// Diagnostic is one problem at one location of a manifest.
type Diagnostic struct {
	Code     Code     `json:"code"`
	Severity Severity `json:"severity"`
	Range
	Message string `json:"message"`
	// Stage is the one stage that it concerns; "" for all.
	Stage string `json:"stage,omitempty"`
	Fix   *Fix   `json:"fix,omitempty"`
}

// String returns the diagnostic on one line, in the form of compilers.
func (d Diagnostic) String() string {
	return plain(fmt.Sprintf("%s: %s (%s)", d.Range, d.Message, d.Code))
}

// Mend adds a fix to the diagnostic that writes a text in its place.
func (d *Diagnostic) Mend(title, text string) {
	d.Fix = &Fix{Title: title, Edits: []Edit{{Range: d.Range, Text: text}}}
}

// Meant adds the probable intention, with a fix that writes it; "" adds nothing.
func (d *Diagnostic) Meant(near string) {
	if near != "" {
		d.Message += fmt.Sprintf("; did you mean %q?", near)
		d.Mend(fmt.Sprintf("Change to %q", near), near)
	}
}

// Excerpt returns the source line of the diagnostic with a marker below, or "" if the text has no such line.
// NewText saves the search for the line in repeated calls with one text.
func (d Diagnostic) Excerpt(text []byte) string { return NewText(text).Excerpt(d) }

// Text is a file with its lines found.
type Text struct {
	text  []byte
	lines []int // where each line starts
}

// NewText finds the lines of a file.
func NewText(text []byte) *Text { return &Text{text, lineStarts(text)} }

// excerptWidth is how many characters of a line are shown.
const excerptWidth = 160

// Excerpt returns the source line of a diagnostic with a marker under the place.
func (t *Text) Excerpt(d Diagnostic) string {
	if d.Line < 1 || d.Line > len(t.lines) {
		return ""
	}
	end := len(t.text)
	if d.Line < len(t.lines) {
		end = t.lines[d.Line] - 1
	}
	runes := []rune(strings.TrimRight(string(t.text[t.lines[d.Line-1]:end]), "\r"))
	cut := ""
	if len(runes) > excerptWidth {
		runes, cut = runes[:excerptWidth], "…"
	}
	width := 1
	if d.EndLine == d.Line && d.EndColumn > d.Column {
		width = d.EndColumn - d.Column
	}
	width = min(width, max(1, len(runes)+len(cut)/3-d.Column+1))
	var pad strings.Builder
	for _, r := range runes[:min(max(0, d.Column-1), len(runes))] {
		if r != '\t' {
			r = ' '
		}
		pad.WriteRune(r)
	}
	return fmt.Sprintf("%5d | %s\n      | %s%s", d.Line, plain(string(runes)+cut), pad.String(),
		strings.Repeat("^", width))
}

// plain replaces control characters by visible symbols such as ␀, of width one.
func plain(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\t' || r == '\n':
			return r
		case r < 0x20:
			return 0x2400 + r
		case r == 0x7f:
			return 0x2421
		case r >= 0x80 && r < 0xa0 || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069:
			return 0xfffd
		}
		return r
	}, s)
}

// Clip shortens user text for a message.
func Clip(s string) string {
	if r := []rune(s); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return s
}

// HasErrors reports whether any of the diagnostics stops a build.
func HasErrors(ds []Diagnostic) bool {
	for _, d := range ds {
		if d.Severity == Error {
			return true
		}
	}
	return false
}

// Sort orders diagnostics by file, line, column and code.
func Sort(ds []Diagnostic) {
	sort.SliceStable(ds, func(i, j int) bool {
		a, b := ds[i], ds[j]
		switch {
		case a.File != b.File:
			return a.File < b.File
		case a.Line != b.Line:
			return a.Line < b.Line
		case a.Column != b.Column:
			return a.Column < b.Column
		}
		return a.Code < b.Code
	})
}

// Apply applies the fixes of the diagnostics of one file to its text. A fix that overlaps an earlier one is
// deferred to the next round.
func Apply(text []byte, ds []Diagnostic) []byte {
	type span struct {
		from, to int
		with     string
	}
	lines := lineStarts(text)
	offset := func(line, column int) int {
		if line < 1 || line > len(lines) {
			return len(text)
		}
		at := lines[line-1]
		for c := 1; c < column && at < len(text) && text[at] != '\n'; c++ {
			_, n := utf8.DecodeRune(text[at:])
			at += n
		}
		return at
	}
	var spans []span
	for _, d := range ds {
		if d.Fix == nil {
			continue
		}
		for _, e := range d.Fix.Edits {
			if e.File == d.File {
				spans = append(spans, span{offset(e.Line, e.Column), offset(e.EndLine, e.EndColumn), e.Text})
			}
		}
	}
	sort.SliceStable(spans, func(i, j int) bool { return spans[i].from < spans[j].from })
	var out []byte
	at := 0
	for _, s := range spans {
		if s.from < at || s.to < s.from {
			continue
		}
		out = append(append(out, text[at:s.from]...), s.with...)
		at = s.to
	}
	return append(out, text[at:]...)
}

func lineStarts(text []byte) []int {
	starts := []int{0}
	for i, b := range text {
		if b == '\n' {
			starts = append(starts, i+1)
		}
	}
	return starts
}
