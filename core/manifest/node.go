package manifest

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// Limits of one manifest file.
const (
	MaxFileBytes = 256 << 10
	MaxDepth     = 32
)

// Kind is the kind of a node.
type Kind uint8

// The kinds of nodes.
const (
	Scalar Kind = iota + 1
	Mapping
	Sequence
	Null
)

// Rule says which step of merging gave a value.
type Rule uint8

// The rules, in the order in which they are merged.
const (
	BuiltIn Rule = iota
	Defaults
	OfFunction
	OfStage
	OfSetting
	OfService
	DerivedFrom
)

// String gives the rule in a word.
func (r Rule) String() string {
	return [...]string{"built-in", "defaults", "function", "stage", "setting", "service", "derived"}[r]
}

// MarshalText gives the rule in a word.
func (r Rule) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText reads the rule's word.
func (r *Rule) UnmarshalText(text []byte) error {
	for rule := BuiltIn; rule <= DerivedFrom; rule++ {
		if rule.String() == string(text) {
			*r = rule
			return nil
		}
	}
	return fmt.Errorf("%q is not a rule of merging", text)
}

// Node is a value in a manifest with its place. Scalars keep the text that was
// written: what it means is for the key to say. A large service has many
// nodes, so they are kept small.
type Node struct {
	Text   string
	Keys   []*Node // of a mapping, in order
	Items  []*Node // of a mapping: the values; of a sequence: the items
	file   *string
	line   int32
	column int32
	// The end is exclusive.
	endLine   int32
	endColumn int32
	Kind      Kind
	Rule      Rule
	Quoted    bool
}

// Range gives where the node stands.
func (n *Node) Range() Range {
	r := Range{Line: int(n.line), Column: int(n.column), EndLine: int(n.endLine), EndColumn: int(n.endColumn)}
	if n.file != nil {
		r.File = *n.file
	}
	return r
}

// Get gives the value of a key, or nil.
func (n *Node) Get(key string) *Node {
	if n == nil || n.Kind != Mapping {
		return nil
	}
	for i, k := range n.Keys {
		if k.Text == key {
			return n.Items[i]
		}
	}
	return nil
}

// Key gives the node of a key itself, or nil.
func (n *Node) Key(key string) *Node {
	if n == nil || n.Kind != Mapping {
		return nil
	}
	for _, k := range n.Keys {
		if k.Text == key {
			return k
		}
	}
	return nil
}

// Origin gives where the node stands and which rule put it there.
func (n *Node) Origin() Origin {
	if n == nil {
		return Origin{Rule: BuiltIn}
	}
	o := Origin{Line: n.line, Column: n.column, Rule: n.Rule}
	if n.file != nil {
		o.File = *n.file
	}
	return o
}

// Plain turns the node into JSON values: numbers and truth values by YAML 1.2's
// core schema, where they are not quoted.
func (n *Node) Plain() any {
	if n == nil {
		return nil
	}
	switch n.Kind {
	case Mapping:
		out := make(map[string]any, len(n.Keys))
		for i, k := range n.Keys {
			out[k.Text] = n.Items[i].Plain()
		}
		return out
	case Sequence:
		out := make([]any, len(n.Items))
		for i, item := range n.Items {
			out[i] = item.Plain()
		}
		return out
	case Null:
		return nil
	}
	if n.Quoted {
		return n.Text
	}
	return coreScalar(n.Text)
}

// mark gives every node of a tree its rule.
func (n *Node) mark(rule Rule) {
	if n == nil {
		return
	}
	n.Rule = rule
	for _, k := range n.Keys {
		k.Rule = rule
	}
	for _, item := range n.Items {
		item.mark(rule)
	}
}

// parse reads one file into nodes. What cannot be read is told in diagnostics;
// the node is nil where nothing of the file can be used.
func parse(file string, text []byte) (*Node, []Diagnostic) {
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
		r.add(CodeEmpty, Range{}, "the file is empty; it has to say what it declares")
		return nil, r.found
	case err != nil:
		r.syntax(text, err)
		return nil, r.found
	}
	if bytes.Contains(text, []byte("\n---")) || bytes.Contains(text, []byte("\n...")) { // else there cannot be a second one
		var second yaml.Node
		if err := loader.Load(&second); !errors.Is(err, io.EOF) {
			r.add(CodeDocuments, Range{Line: max(1, second.Line), Column: 1}, "one file holds one document; move the second one to a file of its own")
		}
	}
	if doc.Kind != yaml.DocumentNode || len(doc.Content) == 0 {
		r.add(CodeEmpty, Range{}, "the file is empty; it has to say what it declares")
		return nil, r.found
	}
	r.room(doc.Content[0])
	root := r.take(doc.Content[0], 1)
	if root.Kind == Null {
		r.add(CodeEmpty, Range{}, "the file is empty; it has to say what it declares")
		return nil, r.found
	}
	return root, r.found
}

type reader struct {
	file  string
	found []Diagnostic
	deep  bool
	// A file's nodes, and their lists of keys and items, are cut from these two.
	nodes []Node
	lists []*Node
}

// room makes room for all nodes of a file at once: a large service has many
// small nodes, and most of the time would go into making them one by one.
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

func (r *reader) add(code Code, at Range, format string, args ...any) {
	at.File = r.file
	if at.Line == 0 {
		at.Line, at.Column = 1, 1
	}
	if at.EndLine == 0 {
		at.EndLine, at.EndColumn = at.Line, at.Column+1
	}
	r.found = append(r.found, Diagnostic{Code: code, Severity: Error, Range: at, Message: fmt.Sprintf(format, args...)})
}

// readable tells whether the bytes are text that may go to the YAML parser,
// which reports these problems without a position.
func (r *reader) readable(text []byte) bool {
	place := func(at int) Range {
		before := text[:at]
		line := bytes.Count(before, []byte("\n")) + 1
		return Range{Line: line, Column: utf8.RuneCount(before[bytes.LastIndexByte(before, '\n')+1:]) + 1}
	}
	if len(text) > MaxFileBytes {
		r.add(CodeTooLarge, Range{}, "the file has %d KiB; a manifest may have up to %d KiB", len(text)>>10, MaxFileBytes>>10)
		return false
	}
	for at := 0; at < len(text); {
		c, n := rune(text[at]), 1
		if c >= utf8.RuneSelf {
			c, n = utf8.DecodeRune(text[at:])
		}
		if c == utf8.RuneError && n == 1 {
			r.add(CodeEncoding, place(at), "the byte 0x%02x is not UTF-8; save the file as UTF-8", text[at])
			return false
		}
		if c < ' ' && c != '\n' && c != '\r' && c != '\t' || c == 0x7f {
			r.add(CodeEncoding, place(at), "a control character (0x%02x) cannot stand in a manifest; take it out", c)
			return false
		}
		at += n
	}
	if len(bytes.TrimSpace(text)) == 0 {
		r.add(CodeEmpty, Range{}, "the file is empty; it has to say what it declares")
		return false
	}
	return true
}

func (r *reader) syntax(text []byte, err error) {
	at, message := Range{Line: 1, Column: 1}, err.Error()
	var le *yaml.LoadError
	if errors.As(err, &le) {
		message = le.Message
		mark := le.Mark
		// What is not closed is noticed far behind; it starts elsewhere.
		if le.ContextMark.Line > 0 && strings.Contains(le.ContextMsg, "quoted") {
			mark, message = le.ContextMark, "this quote is not closed"
		} else if le.ContextMark.Line > 0 && strings.Contains(le.ContextMsg, "flow") {
			mark = le.ContextMark
		}
		at.Line, at.Column = max(1, mark.Line), max(1, mark.Column)
	}
	lines := bytes.Split(text, []byte("\n"))
	if at.Line <= len(lines) {
		line := lines[at.Line-1]
		indent := line[:len(line)-len(bytes.TrimLeft(line, " \t"))]
		if tab := bytes.IndexByte(indent, '\t'); tab >= 0 {
			r.tab(at.Line, indent)
			return
		}
	}
	switch {
	case strings.Contains(message, "exceeded max depth") || strings.Contains(message, "depth"):
		r.add(CodeTooDeep, at, "the file nests more than %d levels deep", MaxDepth)
	case strings.Contains(message, "unknown anchor"):
		r.add(CodeAnchor, at, "aliases are not used in manifests; write the value where it is needed, or put it under defaults")
	default:
		r.add(CodeSyntax, at, "cannot be read as YAML: %s", plainWords(message))
	}
}

func (r *reader) tab(line int, indent []byte) {
	at := Range{File: r.file, Line: line, Column: 1, EndLine: line, EndColumn: len(indent) + 1}
	r.found = append(r.found, Diagnostic{
		Code: CodeTab, Severity: Error, Range: at,
		Message: "a tab cannot indent YAML; use spaces",
		Fix:     &Fix{Title: "Indent with spaces", Edits: []Edit{{Range: at, Text: strings.ReplaceAll(string(indent), "\t", "  ")}}},
	})
}

// plainWords puts the parser's most usual messages in the words of somebody who writes a manifest.
func plainWords(message string) string {
	switch {
	case strings.Contains(message, "mapping values are not allowed"):
		return "a second colon on this line, or a line that is indented too far; put texts with a colon in quotes"
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
	r.nodes = append(r.nodes, Node{file: &r.file, line: line, column: column, endLine: line, endColumn: column + 1})
	n := &r.nodes[len(r.nodes)-1]
	if depth > MaxDepth {
		if !r.deep {
			r.deep = true
			r.add(CodeTooDeep, n.Range(), "the file nests more than %d levels deep", MaxDepth)
		}
		n.Kind = Null
		return n
	}
	if y.Anchor != "" {
		r.add(CodeAnchor, n.Range(), "anchors are not used in manifests; put what is shared under defaults")
	}
	if y.Style&yaml.TaggedStyle != 0 {
		r.add(CodeTag, n.Range(), "tags such as %s are not used in manifests; take it out", y.Tag)
	}
	switch y.Kind {
	case yaml.AliasNode:
		r.add(CodeAnchor, n.Range(), "aliases are not used in manifests; write the value where it is needed, or put it under defaults")
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
		n.endColumn = column + int32(max(1, utf8.RuneCountInString(firstLine(y.Value))))
		if y.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0 {
			n.endColumn += 2
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
			r.add(CodeWrongKind, key.Range(), "a key has to be a text")
			continue
		}
		key.Text, key.Kind = y.Content[i].Value, Scalar
		if key.Text == "<<" && !key.Quoted {
			r.add(CodeMergeKey, key.Range(), "merge keys are not used in manifests; put what is shared under defaults")
			continue
		}
		if line := earlier(n, seen, key.Text); line > 0 {
			r.add(CodeDuplicateKey, key.Range(), "%q stands here already, on line %d; keep one of them", key.Text, line)
			continue
		}
		if seen != nil {
			seen[key.Text] = int(key.line)
		}
		n.Keys = append(n.Keys, key)
		n.Items = append(n.Items, r.take(y.Content[i+1], depth+1))
	}
}

// earlier gives the line on which a key stands already, or 0.
func earlier(n *Node, seen map[string]int, key string) int {
	if seen != nil {
		return seen[key]
	}
	if k := n.Key(key); k != nil {
		return int(k.line)
	}
	return 0
}
