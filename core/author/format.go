package author

import (
	"bytes"
	"errors"
	"slices"
	"strings"

	"rudmar/core/diagnostic"
	"rudmar/core/language"
	"rudmar/core/tree"
)

// ErrUnformattable reports that a file cannot be formatted, because it cannot be parsed or would mean something
// else afterwards.
var ErrUnformattable = errors.New("the file cannot be formatted; run rudmar check")

// Format formats a manifest: keys of the file in the usual order, two spaces per level, at most one blank line
// between two lines, none at the ends, and no trailing spaces. Comments stay with their subject; the text
// within a line is not changed.
func Format(file string, text []byte) ([]byte, error) {
	plain := bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
	if bytes.ContainsAny(plain, "\r\u0085\u2028\u2029") { // line ends in YAML, but not in editors
		return nil, ErrUnformattable
	}
	root, problems := tree.Parse(file, plain)
	if root == nil || diagnostic.HasErrors(problems) || root.Kind != tree.Mapping {
		return nil, ErrUnformattable
	}
	f := &formatter{lines: strings.Split(strings.TrimRight(string(plain), "\n"), "\n")}
	f.indent = make([]int, len(f.lines))
	f.verbatim = make([]bool, len(f.lines))
	for i := range f.indent {
		f.indent[i] = -1
	}
	f.block(root, 0)
	out := f.ordered(root, language.Order(file))
	again, problems := tree.Parse(file, out)
	if diagnostic.HasErrors(problems) || !sameMeaning(root, again) {
		return nil, ErrUnformattable
	}
	return out, nil
}

type formatter struct {
	lines    []string
	indent   []int  // column of a key or dash at the start of a line; -1 for other lines
	verbatim []bool // lines within a multi-line text
}

func indentation(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

// begins reports whether a node is the first thing on its line.
func (f *formatter) begins(n *tree.Node) bool {
	return indentation(f.lines[n.Line-1]) == int(n.Column)-1
}

// block sets the indentation of a mapping or sequence that is written in lines.
func (f *formatter) block(n *tree.Node, indent int) {
	switch {
	case n.Kind == tree.Mapping && len(n.Keys) > 0 && n.Line == n.Keys[0].Line && n.Column == n.Keys[0].Column:
		for i, k := range n.Keys {
			if f.begins(k) {
				f.indent[k.Line-1] = indent
			}
			f.value(n.Items[i], indent+2)
		}
	case n.Kind == tree.Sequence && len(n.Items) > 0 && strings.HasPrefix(f.at(n), "-"):
		for _, item := range n.Items {
			f.item(item, indent)
		}
	}
}

// at returns the text of a line from a node on.
func (f *formatter) at(n *tree.Node) string {
	line := []rune(f.lines[n.Line-1])
	return string(line[min(len(line), max(0, int(n.Column)-1)):])
}

func (f *formatter) value(n *tree.Node, indent int) {
	if n.Kind == tree.Scalar {
		f.text(n)
		return
	}
	f.block(n, indent)
}

// item sets the indentation of an item of a sequence and of its content.
func (f *formatter) item(n *tree.Node, indent int) {
	line := f.lines[n.Line-1]
	rest, dash := strings.CutPrefix(strings.TrimLeft(line, " "), "-")
	if !dash {
		f.value(n, indent+2) // its content starts on a line below the dash
		return
	}
	f.indent[n.Line-1] = indent
	if n.Kind == tree.Sequence { // a nested list is indented with it
		return
	}
	inner := indent + 1 + indentation(rest)
	if n.Kind == tree.Mapping && len(n.Keys) > 0 && n.Keys[0].Line == n.Line && n.Keys[0].Column == n.Column {
		f.lines[n.Line-1] = line[:indentation(line)] + "- " + strings.TrimLeft(rest, " ")
		inner = indent + 2
	}
	f.value(n, inner)
}

// text keeps the lines of a multi-line text unchanged.
func (f *formatter) text(n *tree.Node) {
	if !strings.ContainsAny(f.at(n), "|>\"'") && !strings.Contains(n.Text, "\n") {
		return
	}
	switch at := f.at(n); {
	case strings.HasPrefix(at, "|") || strings.HasPrefix(at, ">"):
		own := indentation(f.lines[n.Line-1])
		for i := int(n.Line); i < len(f.lines) &&
			(strings.TrimSpace(f.lines[i]) == "" || indentation(f.lines[i]) > own); i++ {
			f.verbatim[i] = true
		}
	}
}

// ordered writes the file's keys in order, each with the comments before it.
func (f *formatter) ordered(root *tree.Node, order []string) []byte {
	// in flow style
	if len(root.Keys) == 0 || slices.ContainsFunc(root.Keys, func(k *tree.Node) bool { return k.Column != 1 }) {
		return []byte(strings.Trim(strings.Join(f.written(nil, 0, len(f.lines)), "\n"), "\n") + "\n")
	}
	starts := make([]int, len(root.Keys)) // the first line of each key's part
	for i, k := range root.Keys {
		starts[i] = int(k.Line) - 1
		for starts[i] > 0 && strings.HasPrefix(f.lines[starts[i]-1], "#") &&
			(i == 0 || starts[i]-1 > int(root.Keys[i-1].Line)-1) {
			starts[i]--
		}
	}
	type part struct{ rank, from, to int }
	parts := make([]part, len(root.Keys))
	for i, k := range root.Keys {
		rank, to := slices.Index(order, k.Text), len(f.lines)
		if rank < 0 {
			rank = len(order)
		}
		if i+1 < len(starts) {
			to = starts[i+1]
		}
		parts[i] = part{rank, starts[i], to}
	}
	slices.SortStableFunc(parts, func(a, b part) int { return a.rank - b.rank })
	var out []string
	out = f.written(out, 0, starts[0])
	for _, p := range parts {
		out = f.written(out, p.from, p.to)
	}
	return []byte(strings.Trim(strings.Join(out, "\n"), "\n") + "\n")
}

// written adds lines with their indentation, without doubled blank lines.
func (f *formatter) written(out []string, from, to int) []string {
	shift := 0
	for i := from; i < to; i++ {
		line := f.lines[i]
		switch text := strings.TrimSpace(line); {
		case f.verbatim[i]:
			if text != "" {
				line = strings.Repeat(" ", max(0, indentation(line)+shift)) + strings.TrimLeft(line, " ")
			}
			out = append(out, line)
			continue
		case text == "":
			if len(out) > 0 && out[len(out)-1] != "" {
				out = append(out, "")
			}
			continue
		case f.indent[i] >= 0:
			shift = f.indent[i] - indentation(line)
		case strings.HasPrefix(text, "#"):
			shift = f.comment(i, to, shift)
		}
		out = append(out, strings.Repeat(" ", max(0, indentation(line)+shift))+
			strings.TrimLeft(strings.TrimRight(line, " \t"), " "))
	}
	return out
}

// comment returns the shift of a comment's line: that of the next line if the comment is above it, or that of
// the previous one.
func (f *formatter) comment(i, to, before int) int {
	for j := i + 1; j < to; j++ {
		switch text := strings.TrimSpace(f.lines[j]); {
		case text == "" || strings.HasPrefix(text, "#"):
		case f.indent[j] >= 0 && indentation(f.lines[j]) == indentation(f.lines[i]):
			return f.indent[j] - indentation(f.lines[j])
		default:
			return before
		}
	}
	return before
}

// sameMeaning reports whether two files have the same meaning, regardless of the order of their keys.
func sameMeaning(a, b *tree.Node) bool {
	if a == nil || b == nil || a.Kind != b.Kind || a.Text != b.Text || len(a.Keys) != len(b.Keys) ||
		len(a.Items) != len(b.Items) {
		return a == b
	}
	if a.Kind == tree.Mapping {
		for i, k := range a.Keys {
			if other := b.Get(k.Text); other == nil || !sameMeaning(a.Items[i], other) {
				return false
			}
		}
		return true
	}
	for i := range a.Items {
		if !sameMeaning(a.Items[i], b.Items[i]) {
			return false
		}
	}
	return true
}
