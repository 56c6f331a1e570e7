package main

import (
	"fmt"
	"go/parser"
	"go/token"
	"strings"
	"testing"

	"golang.org/x/tools/cover"
)

// The rest of a statement after a closure is covered with the closure's first line.
func TestLinesOf(t *testing.T) {
	lines := linesOf([]cover.ProfileBlock{{StartLine: 3, EndLine: 5, Count: 1}, {StartLine: 5, EndLine: 7}, {StartLine: 12, EndLine: 13}})
	for line, want := range map[int]bool{2: false, 3: true, 5: true, 6: false, 8: true, 9: true, 12: false, 14: false} {
		if lines[line] != want {
			t.Errorf("line %d: %v", line, lines[line])
		}
	}
}

// The expression of a case is covered with its switch, and its body by itself.
func TestCaseCoverage(t *testing.T) {
	text := "package p\n\nfunc f(n int) int {\n\tswitch {\n\tcase n > 3:\n\t\treturn n - 1\n\t}\n\treturn 0\n}\n"
	s := source{name: "p.go", set: token.NewFileSet(), lines: strings.Split(text, "\n")}
	var err error
	if s.tree, err = parser.ParseFile(s.set, s.name, text, 0); err != nil {
		t.Fatal(err)
	}
	got := map[string]bool{}
	for _, m := range mutantsOf(s) {
		got[fmt.Sprint(m.line, " by ", m.asked)] = true
	}
	if len(got) < 2 || !got["5 by 4"] || !got["6 by 6"] || got["5 by 5"] {
		t.Errorf("%v", got)
	}
}
