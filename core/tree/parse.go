package tree

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"rudmar/core/diagnostic"
)

// Limits of one manifest file.
const (
	MaxFileBytes = 256 << 10
	maxDepth     = 32
)

// Parse parses one file into nodes. Errors are diagnostics; the node is nil if nothing of the file can be used.
func Parse(file string, text []byte) (*Node, []diagnostic.Diagnostic) {
	r := &reader{file: file}
	if !r.readable(text) {
		return nil, r.found
	}
	var doc yaml.Node
	loader, err := yaml.NewLoader(bytes.NewReader(text))
	if err == nil {
		err = loader.Load(&doc)
	}
	switch {
	case errors.Is(err, io.EOF):
		r.add(diagnostic.CodeEmpty, diagnostic.Range{}, "the file is empty; it must declare something")
		return nil, r.found
	case err != nil:
		r.syntax(text, err)
		return nil, r.found
	}
	// else there cannot be a second one
	if bytes.Contains(text, []byte("\n---")) || bytes.Contains(text, []byte("\n...")) {
		var second yaml.Node
		if err := loader.Load(&second); !errors.Is(err, io.EOF) {
			r.add(diagnostic.CodeDocuments, diagnostic.Range{Line: max(1, second.Line), Column: 1},
				"a file must contain one document; move the second one to a file of its own")
		}
	}
	if doc.Kind != yaml.DocumentNode || len(doc.Content) == 0 {
		r.add(diagnostic.CodeEmpty, diagnostic.Range{}, "the file is empty; it must declare something")
		return nil, r.found
	}
	r.room(doc.Content[0])
	root := r.take(doc.Content[0], 1)
	if root.Kind == Null {
		r.add(diagnostic.CodeEmpty, diagnostic.Range{}, "the file is empty; it must declare something")
		return nil, r.found
	}
	return root, r.found
}

type reader struct {
	file  string
	found []diagnostic.Diagnostic
	deep  bool
	// A file's nodes, and their lists of keys and items, are cut from these two.
	nodes []Node
	lists []*Node
}

// room allocates all nodes of a file at once: a large service has many small nodes, and single allocations
// would dominate.
func (r *reader) room(root *yaml.Node) {
	var count func(y *yaml.Node) int
	count = func(y *yaml.Node) int {
		n := 1
		for _, c := range y.Content {
			n += count(c)
		}
		return n
	}
	n := count(root)
	r.nodes, r.lists = make([]Node, 0, n), make([]*Node, n)
}

// list cuts an empty list off, with room for n nodes.
func (r *reader) list(n int) []*Node {
	out := r.lists[:0:n]
	r.lists = r.lists[n:]
	return out
}

func (r *reader) add(code diagnostic.Code, at diagnostic.Range, format string, args ...any) {
	at.File = r.file
	if at.Line == 0 {
		at.Line, at.Column = 1, 1
	}
	if at.EndLine == 0 {
		at.EndLine, at.EndColumn = at.Line, at.Column+1
	}
	r.found = append(r.found,
		diagnostic.Diagnostic{Code: code, Severity: diagnostic.Error, Range: at, Message: fmt.Sprintf(format, args...)})
}

// readable reports whether the bytes are text for the YAML parser, which reports these problems without a
// position.
func (r *reader) readable(text []byte) bool {
	place := func(at int) diagnostic.Range {
		before := text[:at]
		line := bytes.Count(before, []byte("\n")) + 1
		return diagnostic.Range{Line: line, Column: utf8.RuneCount(before[bytes.LastIndexByte(before, '\n')+1:]) + 1}
	}
	if len(text) > MaxFileBytes {
		r.add(diagnostic.CodeTooLarge, diagnostic.Range{}, "the file has %d KiB; a manifest can have up to %d KiB",
			len(text)>>10, MaxFileBytes>>10)
		return false
	}
	for at := 0; at < len(text); {
		c, n := rune(text[at]), 1
		if c >= utf8.RuneSelf {
			c, n = utf8.DecodeRune(text[at:])
		}
		if c == utf8.RuneError && n == 1 {
			r.add(diagnostic.CodeEncoding, place(at), "the byte 0x%02x is not UTF-8; save the file as UTF-8", text[at])
			return false
		}
		if c < ' ' && c != '\n' && c != '\r' && c != '\t' || c == 0x7f {
			r.add(diagnostic.CodeEncoding, place(at), "a control character (0x%02x) is not allowed in a manifest; remove it", c)
			return false
		}
		at += n
	}
	if len(bytes.TrimSpace(text)) == 0 {
		r.add(diagnostic.CodeEmpty, diagnostic.Range{}, "the file is empty; it must declare something")
		return false
	}
	return true
}

func (r *reader) syntax(text []byte, err error) {
	at, message := diagnostic.Range{Line: 1, Column: 1}, err.Error()
	var le *yaml.LoadError
	if errors.As(err, &le) {
		message = le.Message
		mark := le.Mark
		// The parser notices an unclosed value far behind its start.
		if le.ContextMark.Line > 0 && strings.Contains(le.ContextMsg, "quoted") {
			mark, message = le.ContextMark, "this quote is not closed"
		} else if le.ContextMark.Line > 0 && strings.Contains(le.ContextMsg, "flow") {
			mark = le.ContextMark
		}
		at.Line, at.Column = max(1, mark.Line), max(1, mark.Column)
	}
	lines := bytes.Split(text, []byte("\n"))
	if line, column := openQuote(lines, at.Line); line > 0 && !strings.Contains(message, "quote") {
		at.Line, at.Column, message = line, column, "this quote is not closed"
	}
	if at.Line <= len(lines) {
		line := lines[at.Line-1]
		indent := line[:len(line)-len(bytes.TrimLeft(line, " \t"))]
		if tab := bytes.IndexByte(indent, '\t'); tab >= 0 {
			r.tab(at.Line, indent)
			return
		}
	}
	switch {
	case strings.Contains(message, "could not find expected ':'"):
		at = withoutColon(lines, at)
	case strings.Contains(message, "mapping values") && at.Line <= len(lines) &&
		bytes.Count(append(bytes.TrimRight(lines[at.Line-1], " \r"), ' '), []byte(": ")) == 1:
		before := at
		before.Line--
		if found := withoutColon(lines, before); found.Line == before.Line {
			at, message = found, "this line has no colon and space after its key"
		}
	}
	switch {
	case strings.Contains(message, "exceeded max depth") || strings.Contains(message, "depth"):
		r.add(diagnostic.CodeTooDeep, at, "the file nests more than %d levels deep", maxDepth)
	case strings.Contains(message, "unknown anchor"):
		r.add(diagnostic.CodeAnchor, at,
			"aliases are not allowed in manifests; write the value where it is needed, or put it under defaults")
	default:
		r.add(diagnostic.CodeSyntax, at, "invalid YAML: %s", plainWords(message))
	}
}

// openQuote returns the place of a quote on a line before a faulty one, that is closed only there or just before: most
// often by the opening quote of another value. 0 without one.
func openQuote(lines [][]byte, until int) (line, column int) {
	var quote byte
	for i, text := range lines[:min(until, len(lines))] {
		value := true // a value can start here
		for k := 0; k < len(text); k++ {
			c := text[k]
			switch {
			case quote == '"' && c == '\\':
				k++
			case quote != 0 && c == quote:
				if i+2 >= until && line < i+1 {
					return line, column
				}
				quote = 0
			case quote != 0:
			case value && (c == '"' || c == '\''):
				quote, line, column = c, i+1, k+1
			case c == '#' && (k == 0 || text[k-1] == ' '):
				k = len(text)
			case c != ' ':
				value = strings.IndexByte(":-,[{", c) >= 0
			}
		}
	}
	return 0, 0
}

// withoutColon returns the line that lacks its colon: the parser notices it only at the next line.
func withoutColon(lines [][]byte, at diagnostic.Range) diagnostic.Range {
	for i := min(at.Line, len(lines)) - 1; i >= 0; i-- {
		line := bytes.TrimSpace(lines[i])
		if len(line) == 0 || line[0] == '#' {
			continue
		}
		if colon := bytes.HasSuffix(line, []byte(":")) || bytes.Contains(line, []byte(": ")); !colon {
			first := len(lines[i]) - len(bytes.TrimLeft(lines[i], " -"))
			return diagnostic.Range{Line: i + 1, Column: first + 1, EndLine: i + 1,
				EndColumn: first + 1 + utf8.RuneCount(bytes.TrimRight(lines[i][first:], " \r"))}
		}
	}
	return at
}

func (r *reader) tab(line int, indent []byte) {
	at := diagnostic.Range{File: r.file, Line: line, Column: 1, EndLine: line, EndColumn: len(indent) + 1}
	r.found = append(r.found, diagnostic.Diagnostic{
		Code: diagnostic.CodeTab, Severity: diagnostic.Error, Range: at,
		Message: "a tab cannot indent YAML; use spaces",
		Fix: &diagnostic.Fix{Title: "Indent with spaces",
			Edits: []diagnostic.Edit{{Range: at, Text: strings.ReplaceAll(string(indent), "\t", "  ")}}},
	})
}

// plainWords replaces the parser's most frequent messages with plain ones.
func plainWords(message string) string {
	switch {
	case strings.Contains(message, "mapping values are not allowed"):
		return "a second colon on this line, or a line that is indented too far; quote strings that contain a colon"
	case strings.Contains(message, "did not find expected ',' or ']'"):
		return "a list is not closed with ]"
	case strings.Contains(message, "did not find expected ',' or '}'"):
		return "a mapping is not closed with }"
	case strings.Contains(message, "could not find expected ':'"):
		return "a key without a colon"
	case strings.Contains(message, "did not find expected key"):
		return "this line is not indented like the ones before it"
	}
	return message
}

func (r *reader) take(y *yaml.Node, depth int) *Node {
	line, column := int32(y.Line), int32(y.Column) // a file has 256 KiB at most
	r.nodes = append(r.nodes, Node{file: &r.file, Line: line, Column: column, EndLine: line, EndColumn: column + 1})
	n := &r.nodes[len(r.nodes)-1]
	if depth > maxDepth {
		if !r.deep {
			r.deep = true
			r.add(diagnostic.CodeTooDeep, n.Range(), "the file nests more than %d levels deep", maxDepth)
		}
		n.Kind = Null
		return n
	}
	if y.Anchor != "" {
		r.add(diagnostic.CodeAnchor, n.Range(), "anchors are not allowed in manifests; put shared values under defaults")
	}
	if y.Style&yaml.TaggedStyle != 0 {
		r.add(diagnostic.CodeTag, n.Range(), "tags such as %s are not allowed in manifests; remove it", y.Tag)
	}
	switch y.Kind {
	case yaml.AliasNode:
		r.add(diagnostic.CodeAnchor, n.Range(),
			"aliases are not allowed in manifests; write the value where it is needed, or put it under defaults")
		n.Kind = Null
	case yaml.MappingNode:
		r.takeMapping(n, y, depth)
	case yaml.SequenceNode:
		n.Kind = Sequence
		n.Items = r.list(len(y.Content))
		for _, c := range y.Content {
			n.Items = append(n.Items, r.take(c, depth+1))
		}
	default:
		n.Kind, n.Text = Scalar, y.Value
		n.Quoted = y.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle|yaml.LiteralStyle|yaml.FoldedStyle) != 0
		n.EndColumn = column + int32(max(1, utf8.RuneCountInString(firstLine(y.Value))))
		if y.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
			n.EndColumn += 2
		}
		if !n.Quoted && (y.Value == "" || y.Value == "~" || y.Value == "null" || y.Value == "Null" || y.Value == "NULL") {
			n.Kind = Null
		}
	}
	return n
}

func firstLine(s string) string {
	line, _, _ := strings.Cut(s, "\n")
	return line
}

func (r *reader) takeMapping(n *Node, y *yaml.Node, depth int) {
	n.Kind = Mapping
	count := len(y.Content) / 2
	n.Keys, n.Items = r.list(count), r.list(count)
	var seen map[string]int
	if count > 8 {
		seen = make(map[string]int, count)
	}
	for i := 0; i+1 < len(y.Content); i += 2 {
		key := r.take(y.Content[i], depth+1)
		if key.Kind == Mapping || key.Kind == Sequence {
			r.add(diagnostic.CodeWrongKind, key.Range(), "a key must be a string")
			continue
		}
		key.Text, key.Kind = y.Content[i].Value, Scalar
		if key.Text == "<<" && !key.Quoted {
			r.add(diagnostic.CodeMergeKey, key.Range(),
				"merge keys are not allowed in manifests; put shared values under defaults")
			continue
		}
		if line := earlier(n, seen, key.Text); line > 0 {
			r.add(diagnostic.CodeDuplicateKey, key.Range(), "%q duplicates line %d; remove one of them", key.Text,
				line)
			continue
		}
		if seen != nil {
			seen[key.Text] = int(key.Line)
		}
		n.Keys = append(n.Keys, key)
		n.Items = append(n.Items, r.take(y.Content[i+1], depth+1))
	}
}

// earlier returns the line of the first occurrence of a key, or 0.
func earlier(n *Node, seen map[string]int, key string) int {
	if seen != nil {
		return seen[key]
	}
	if k := n.Key(key); k != nil {
		return int(k.Line)
	}
	return 0
}
