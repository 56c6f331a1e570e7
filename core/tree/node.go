// Package tree parses the text of a manifest to a tree of nodes with locations, and overlays
// trees. Only this package depends on YAML: its users see mappings, sequences and scalars, which
// keep their original text.
//
// Parsing can run concurrently, and a tree can be read concurrently, but Mark changes it.
package tree

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"rudmar/core/diagnostic"
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

// Rule names the step of merging that set a value.
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

// String returns the rule in a word.
func (r Rule) String() string {
	return [...]string{"built-in", "defaults", "function", "stage", "setting", "service", "derived"}[r]
}

// MarshalText returns the rule in a word.
func (r Rule) MarshalText() ([]byte, error) { return []byte(r.String()), nil }

// UnmarshalText reads the rule's word.
func (r *Rule) UnmarshalText(text []byte) error {
	for rule := BuiltIn; rule <= DerivedFrom; rule++ {
		if rule.String() == string(text) {
			*r = rule
			return nil
		}
	}
	return fmt.Errorf("%q is not a merge rule", text)
}

// Node is a value in a manifest with its location. Scalars keep their original text: the key determines its
// meaning. A large service has many nodes, so they are small.
type Node struct {
	Text   string
	Keys   []*Node // of a mapping, in order
	Items  []*Node // of a mapping: the values; of a sequence: the items
	file   *string
	Line   int32 // from 1
	Column int32 // from 1, in code points
	// The end is exclusive.
	EndLine   int32
	EndColumn int32
	Kind      Kind
	Rule      Rule
	Quoted    bool
}

// Range returns the range of the node.
func (n *Node) Range() diagnostic.Range {
	r := diagnostic.Range{Line: int(n.Line), Column: int(n.Column), EndLine: int(n.EndLine), EndColumn: int(n.EndColumn)}
	if n.file != nil {
		r.File = *n.file
	}
	return r
}

// Value returns the text of a scalar; "" for all else, and for no node.
func (n *Node) Value() string {
	if n == nil || n.Kind != Scalar {
		return ""
	}
	return n.Text
}

// Values returns the texts of a sequence's items, or the one of a scalar that is not empty.
func (n *Node) Values() []string {
	if n == nil || n.Kind != Sequence {
		if t := n.Value(); t != "" {
			return []string{t}
		}
		return nil
	}
	out := make([]string, 0, len(n.Items))
	for _, item := range n.Items {
		out = append(out, item.Value())
	}
	return out
}

// Get returns the value of a key, or nil.
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

// Key returns the node of a key itself, or nil.
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

// Origin returns the location of the node and the rule that put it there.
func (n *Node) Origin() Origin {
	if n == nil {
		return Origin{Rule: BuiltIn}
	}
	o := Origin{Line: n.Line, Column: n.Column, Rule: n.Rule}
	if n.file != nil {
		o.File = *n.file
	}
	return o
}

// Plain converts the node to JSON values: unquoted numbers and Booleans by YAML 1.2's core schema.
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

// Mark assigns a rule to every node of a tree.
func (n *Node) Mark(rule Rule) {
	if n == nil {
		return
	}
	n.Rule = rule
	for _, k := range n.Keys {
		k.Rule = rule
	}
	for _, item := range n.Items {
		item.Mark(rule)
	}
}

// Part returns the location of a part of a scalar's text; the whole scalar if its notation can differ from its
// text.
func (n *Node) Part(offset, length int) diagnostic.Range {
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

// Last returns the last node of a tree.
func (n *Node) Last() *Node {
	for len(n.Items) > 0 {
		n = n.Items[len(n.Items)-1]
	}
	return n
}

// Origin is the origin of a value: a location in a file, and the rule that took it from there. Built-in values
// have no file.
type Origin struct {
	File   string `json:"file,omitempty"`
	Line   int32  `json:"line,omitempty"`
	Column int32  `json:"column,omitempty"`
	Rule   Rule   `json:"rule"`
}

// coreScalar reads a plain scalar by the core schema of YAML 1.2.
func coreScalar(text string) any {
	switch text {
	case "true", "True", "TRUE":
		return true
	case "false", "False", "FALSE":
		return false
	}
	if text == "" || !strings.ContainsRune("-+.0123456789", rune(text[0])) || strings.ContainsAny(text, "_pPxX") {
		return text
	}
	if f, err := strconv.ParseFloat(text, 64); err == nil && !math.IsInf(f, 0) && !math.IsNaN(f) {
		return f
	}
	return text
}
