package tree_test

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"rudmar/core/tree"
)

func Example() {
	defaults, _ := tree.Parse("rudmar.yaml", []byte("memory: 128 MiB\nenv: {MODE: quiet, GONE: x}\n"))
	function, _ := tree.Parse("function.yaml", []byte("env:\n  MODE: loud\n  GONE: null\n"))
	merged := tree.Merge(defaults, function)
	fmt.Println(merged.Plain())
	fmt.Println(merged.Get("memory").Range(), merged.Get("env").Get("MODE").Range())
	// Output:
	// map[env:map[MODE:loud] memory:128 MiB]
	// rudmar.yaml:1:9 function.yaml:2:9
}

func parsed(t *testing.T, text string) *tree.Node {
	t.Helper()
	n, problems := tree.Parse("f.yaml", []byte(text))
	if n == nil || len(problems) > 0 {
		t.Fatalf("%q: %v", text, problems)
	}
	return n
}

// Errors have a code and a position.
func TestParseDiagnostics(t *testing.T) {
	for _, tt := range []struct{ name, text, want string }{
		{"nothing", "  \n", "1:1 RM1003"},
		{"a comment alone", "# about\n", "1:1 RM1003"},
		{"not UTF-8", "a: b\nc: \xff", "2:4 RM1002"},
		{"a control character", "a: \x01", "1:4 RM1002"},
		{"a tab", "a:\n\tb: c\n", "2:1 RM1011"},
		{"a quote that is not closed", "a: b\nc: \"d\ne: f\n", "2:4 RM1001"},
		{"an anchor", "a: &x b\n", "1:4 RM1006"},
		{"an alias", "a: *x\n", "1:4 RM1006"},
		{"a tag", "a: !!str b\n", "1:4 RM1007"},
		{"a merge key", "<<: {a: b}\n", "1:1 RM1008"},
		{"a second document", "a: b\n---\nc: d\n", "2:1 RM1009"},
		{"a key twice", "a: b\na: c\n", "2:1 RM1010"},
		{"a key twice among many", "a: 1\nb: 1\nc: 1\nd: 1\ne: 1\nf: 1\ng: 1\nh: 1\ni: 1\na: 2\n", "10:1 RM1010"},
		{"too deep", strings.Repeat("[", 33) + strings.Repeat("]", 33), "1:33 RM1005"},
		{"too large", "a: " + strings.Repeat("x", tree.MaxFileBytes), "1:1 RM1004"},
	} {
		_, problems := tree.Parse("f.yaml", []byte(tt.text))
		if len(problems) == 0 {
			t.Errorf("%s: nothing is told", tt.name)
			continue
		}
		if got := fmt.Sprintf("%d:%d %s", problems[0].Line, problems[0].Column, problems[0].Code); got != tt.want {
			t.Errorf("%s: %s, want %s (%s)", tt.name, got, tt.want, problems[0].Message)
		}
	}
}

func TestPlain(t *testing.T) {
	n := parsed(t, "a: 010\nb: \"10\"\nc: no\nd: true\ne: -1.5\nf: null\ng: [1, x, {h: 1e3}]\ni: 1_000\nj: 0x10\n")
	want := map[string]any{"a": 10.0, "b": "10", "c": "no", "d": true, "e": -1.5, "f": nil,
		"g": []any{1.0, "x", map[string]any{"h": 1000.0}}, "i": "1_000", "j": "0x10"}
	if got := n.Plain(); !reflect.DeepEqual(got, want) {
		t.Errorf("%v", got)
	}
}

func TestMissingNodes(t *testing.T) {
	var none *tree.Node
	if none.Get("a") != nil || none.Key("a") != nil || none.Value() != "" || none.Values() != nil ||
		none.Plain() != nil || none.Origin().Rule != tree.BuiltIn {
		t.Error("a node that does not exist holds something")
	}
	n := parsed(t, "a: [x, y]\nb: z\nc: {d: e}\n")
	if got := fmt.Sprint(n.Get("a").Values(), n.Get("b").Values(), n.Get("c").Values(), n.Get("c").Value() == "",
		n.Last().Text); got != "[x y] [z] [] truee" {
		t.Error(got)
	}
}

func TestPart(t *testing.T) {
	n := parsed(t, "plain: ä${x}b\nquoted: \"a${x}\"\nescaped: \"\\u00e4${x}\"\n")
	for _, tt := range []struct {
		key            string
		offset, length int
		want           string
	}{
		{"plain", 2, 4, "1:9-13"}, {"quoted", 1, 4, "2:11-15"},
	} {
		r := n.Get(tt.key).Part(tt.offset, tt.length)
		if got := fmt.Sprintf("%d:%d-%d", r.Line, r.Column, r.EndColumn); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.key, got, tt.want)
		}
	}
}

// Merging follows its rules, and changes neither side.
func TestMerge(t *testing.T) {
	for _, tt := range []struct{ base, over, want string }{
		{"a: 1\nb: {c: 1, d: 1}", "b: {d: 2, e: 3}", "map[a:1 b:map[c:1 d:2 e:3]]"},
		{"a: [1, 2]", "a: [3]", "map[a:[3]]"},
		{"a: {b: 1}", "a: text", "map[a:text]"},
		{"a: text", "a: {b: 1, c: null}", "map[a:map[b:1]]"},
		{"a: 1\nb: 2", "a: null", "map[b:2]"},
		{"a: 1", "z: {y: {x: null, w: 1}}", "map[a:1 z:map[y:map[w:1]]]"},
	} {
		base, over := parsed(t, tt.base), parsed(t, tt.over)
		before := fmt.Sprint(base.Plain(), over.Plain())
		if got := fmt.Sprint(tree.Merge(base, over).Plain()); got != tt.want {
			t.Errorf("%s under %s: %s, want %s", tt.base, tt.over, got, tt.want)
		}
		if fmt.Sprint(base.Plain(), over.Plain()) != before {
			t.Errorf("%s under %s: merging changed them", tt.base, tt.over)
		}
		if tree.Merge(base, nil) != base || tree.Merge(nil, base) != base {
			t.Error("merging with nothing gives another tree")
		}
	}
}

func TestRulesAreMarked(t *testing.T) {
	n := parsed(t, "a: {b: [c]}")
	n.Mark(tree.OfStage)
	if o := n.Get("a").Get("b").Items[0].Origin(); o != (tree.Origin{File: "f.yaml", Line: 1,
		Column: 9, Rule: tree.OfStage}) {
		t.Errorf("%+v", o)
	}
	var back tree.Rule
	for rule := tree.BuiltIn; rule <= tree.DerivedFrom; rule++ {
		if text, _ := rule.MarshalText(); back.UnmarshalText(text) != nil || back != rule {
			t.Errorf("%v reads back as %v", rule, back)
		}
	}
	if back.UnmarshalText([]byte("magic")) == nil {
		t.Error("a rule that is none was read")
	}
}

// FuzzParse expects a tree or a diagnostic, and every position inside the file; an empty value at its end is on
// the line after it.
func FuzzParse(f *testing.F) {
	for _, text := range []string{"a: b", "a:\n- b\n- {c: d}", "a: |\n  b\n", "\"a\": 'b'",
		"? a\n: b", "a: [b, \"c\nd\"]"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		n, problems := tree.Parse("f.yaml", []byte(text))
		if n == nil && len(problems) == 0 {
			t.Error("neither a tree nor a reason")
		}
		for _, p := range problems {
			if p.Line < 1 || p.Column < 1 || p.Message == "" {
				t.Errorf("%+v", p)
			}
		}
		lines := int32(strings.Count(text, "\n") + strings.Count(text, "\r") + strings.Count(text, "\u0085") +
			strings.Count(text, "\u2028") + strings.Count(text, "\u2029") + 1)
		var walk func(n *tree.Node)
		walk = func(n *tree.Node) {
			if n.Line < 1 || n.Line > lines+1 || n.Column < 1 || len(n.Keys) > 0 && len(n.Keys) != len(n.Items) {
				t.Errorf("a node out of the file: %+v", n)
			}
			for _, item := range n.Items {
				walk(item)
			}
		}
		if n != nil {
			walk(n)
		}
	})
}
