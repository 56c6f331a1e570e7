package main

import (
	"testing"

	"golang.org/x/tools/cover"
)

// What follows a closure in its statement is come by where the closure begins.
func TestLinesOf(t *testing.T) {
	lines := linesOf([]cover.ProfileBlock{{StartLine: 3, EndLine: 5, Count: 1}, {StartLine: 5, EndLine: 7}, {StartLine: 12, EndLine: 13}})
	for line, want := range map[int]bool{2: false, 3: true, 5: true, 6: false, 8: true, 9: true, 12: false, 14: false} {
		if lines[line] != want {
			t.Errorf("line %d: %v", line, lines[line])
		}
	}
}
