package diagnostic_test

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"strings"
	"testing"

	"rudmar/core/diagnostic"
)

func TestNearest(t *testing.T) {
	known := []string{"memory", "timeout", "handler", "permissions"}
	for text, want := range map[string]string{"memroy": "memory", "timout": "timeout", "handeler": "handler",
		"permission": "permissions", "color": "", "": "", "memory": "memory", "xyz": ""} {
		if got := diagnostic.Nearest(text, known); got != want {
			t.Errorf("nearest to %q is %q, want %q", text, got, want)
		}
	}
}

// Every code has an explanation, and every explanation a code.
func TestEveryCodeIsExplained(t *testing.T) {
	file, err := parser.ParseFile(token.NewFileSet(), "codes.go", nil, 0)
	if err != nil {
		t.Fatal(err)
	}
	declared := map[string]bool{}
	ast.Inspect(file, func(n ast.Node) bool {
		if v, ok := n.(*ast.ValueSpec); ok && len(v.Values) == 1 {
			if lit, ok := v.Values[0].(*ast.BasicLit); ok {
				declared[strings.Trim(lit.Value, `"`)] = true
			}
		}
		return true
	})
	seen := map[diagnostic.Code]bool{}
	for _, e := range diagnostic.Explanations() {
		if seen[e.Code] || !declared[string(e.Code)] {
			t.Errorf("%s is explained twice, or is no code", e.Code)
		}
		seen[e.Code] = true
		if e.Title == "" || e.Reason == "" || e.Wrong == "" || e.Right == "" {
			t.Errorf("%s: %+v", e.Code, e)
		}
		if back, ok := diagnostic.Explain(e.Code); !ok || back != e {
			t.Errorf("Explain(%s) = %+v", e.Code, back)
		}
		delete(declared, string(e.Code))
	}
	if len(declared) > 0 {
		t.Errorf("not explained: %v", declared)
	}
	if _, ok := diagnostic.Explain("RM0000"); ok {
		t.Error("a code that is none is explained")
	}
}

func TestExcerpt(t *testing.T) {
	d := diagnostic.Diagnostic{Code: "RM1101",
		Range: diagnostic.Range{File: "f.yaml", Line: 2, Column: 3, EndLine: 2, EndColumn: 6}, Message: "wrong"}
	if got, want := d.Excerpt([]byte("one\n  täg: x\r\n")), "    2 |   täg: x\n      |   ^^^"; got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if got := d.String(); got != "f.yaml:2:3: wrong (RM1101)" {
		t.Error(got)
	}
	d.Line = 9
	if d.Excerpt([]byte("one")) != "" {
		t.Error("a line that does not exist has an excerpt")
	}
	d.Line, d.Column, d.EndLine, d.EndColumn = 1, 500, 1, 900
	_ = d.Excerpt([]byte("short")) // a place beyond the line is no reason to fail
}

func TestApplyDefersOverlaps(t *testing.T) {
	at := func(from, to int) diagnostic.Range {
		return diagnostic.Range{File: "f", Line: 1, Column: from, EndLine: 1, EndColumn: to}
	}
	fix := func(r diagnostic.Range, text string) diagnostic.Diagnostic {
		return diagnostic.Diagnostic{Range: r, Fix: &diagnostic.Fix{Edits: []diagnostic.Edit{{Range: r, Text: text}}}}
	}
	got := diagnostic.Apply([]byte("äbcdef\nnext"),
		[]diagnostic.Diagnostic{fix(at(5, 7), "X"), fix(at(2, 4), "-"), fix(at(3, 6), "lost"), {Range: at(1, 2)}})
	if string(got) != "ä-dX\nnext" {
		t.Errorf("got %q", got)
	}
}

func TestSort(t *testing.T) {
	d := func(file string, line, column int, code diagnostic.Code) diagnostic.Diagnostic {
		return diagnostic.Diagnostic{Code: code, Range: diagnostic.Range{File: file, Line: line, Column: column}}
	}
	list := []diagnostic.Diagnostic{d("b", 1, 1, "RM1"), d("a", 2, 1, "RM1"), d("a", 1, 2, "RM2"),
		d("a", 1, 2, "RM1"), d("a", 1, 1, "RM9")}
	diagnostic.Sort(list)
	if got := fmt.Sprintln(list[0].Code, list[1].Code, list[2].Code, list[3].Line,
		list[4].File); got != "RM9 RM1 RM2 2 b\n" {
		t.Error(got)
	}
}

// TestControlCharactersAreEscaped escapes terminal controls, and changes of the writing direction.
func TestControlCharactersAreEscaped(t *testing.T) {
	d := diagnostic.Diagnostic{Message: "bad \x1b[31m\u202e\u009b",
		Range: diagnostic.Range{File: "a\x07b.yaml", Line: 1, Column: 3, EndLine: 1, EndColumn: 5}}
	text := []byte("x: \x1b]0;title\x07\x7f \u202egnihton\n")
	for _, got := range []string{d.String(), d.Excerpt(text)} {
		if strings.ContainsAny(got, "\x1b\x07\x7f\u202e\u009b") {
			t.Errorf("%q", got)
		}
	}
	if got := d.Excerpt(text); !strings.Contains(got, "␛]0;title␇␡") {
		t.Errorf("%s", got)
	}
}

// BenchmarkExcerpts measures many diagnostics of one file.
func BenchmarkExcerpts(b *testing.B) {
	for _, n := range []int{1000, 20000} {
		text := []byte(strings.Repeat("key: value\n", n))
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				lines := diagnostic.NewText(text)
				for i := range n {
					_ = lines.Excerpt(diagnostic.Diagnostic{Range: diagnostic.Range{Line: i + 1, Column: 1,
						EndLine: i + 1, EndColumn: 4}})
				}
			}
		})
	}
}
