package author_test

import (
	"slices"
	"strings"
	"testing"

	"rudmar/core/author"
	"rudmar/core/check"
)

// assist requests suggestions at the | in a text.
func assist(t *testing.T, file, text string) (author.Assist, []string) {
	t.Helper()
	before, after, ok := strings.Cut(text, "|")
	if !ok {
		t.Fatal("the text has no cursor")
	}
	line := strings.Count(before, "\n") + 1
	column := len([]rune(before[strings.LastIndex(before, "\n")+1:])) + 1
	a := author.At(author.Cursor{File: file, Text: before + after, Line: line, Column: column},
		author.Names{Service: check.Service(sound(t, nil)).Service})
	var labels []string
	for _, c := range a.Completions {
		labels = append(labels, c.Label)
	}
	return a, labels
}

func TestAssist(t *testing.T) {
	const fn, sv, cs = "functions/warn/function.yaml", "rudmar.yaml", "functions/warn/cases/a.yaml"
	tests := []struct {
		name, file, text, path string
		has, not               []string
	}{
		{"a key of a function", fn, "function: warn\n|", "", []string{"handler", "memory", "triggers"},
			[]string{"function", "stages"}},
		{"a key that is begun", fn, "function: warn\nmem|", "", []string{"memory"}, []string{"function"}},
		{"a value", fn, "function: warn\nruntime: |\n", "runtime", []string{"python", "node"}, []string{"memory"}},
		{"a size", fn, "memory: |", "memory", []string{"128 MiB"}, nil},
		{"a key in a block", fn, "triggers:\n  ask:\n    |", "triggers ask",
			[]string{"route", "cron", "open_to"}, []string{"memory"}},
		{"a key in braces", fn, "triggers:\n  ask: {route: \"GET /a\", |}", "triggers ask", []string{"open_to", "enabled"},
			[]string{"route", "memory"}},
		{"a value in braces", fn, "triggers:\n  ask: {route: \"GET /a\", open_to: |}", "triggers ask open_to",
			[]string{"anyone", "authenticated"}, nil},
		{"the value of enabled", fn, "triggers:\n  ask: {enabled: |", "triggers ask enabled", []string{"true", "false"}, nil},
		{"a setting", fn, "env:\n  LIMIT: ${|", "env LIMIT",
			[]string{"settings.frost_limit", "secrets.sms_key", "stage.name", "functions.warn.url"}, []string{"python"}},
		{"a permission in a list", fn, "permissions:\n  - |", "permissions", []string{"allow", "resource"}, []string{"memory"}},
		{"resource in a list item", fn, "permissions:\n  - allow: [read]\n    |", "permissions", []string{"resource"},
			[]string{"allow", "memory"}},
		{"a resource that is known", fn, "permissions:\n  - {allow: [read], resource: |", "permissions resource",
			[]string{"tables/stations"}, nil},
		{"what a stage may change", fn, "per_stage:\n  live:\n    |", "per_stage live", []string{"memory", "env"},
			[]string{"function", "per_stage"}},
		{"a function to run after", fn, "triggers:\n  relay: {after_function: |", "triggers relay after_function", []string{"warn"}, nil},
		{"a key of a stage", sv, "stages:\n  - stage: trial\n    |", "stages", []string{"target", "enter", "gates"},
			[]string{"stage", "service"}},
		{"a gate", sv, "stages:\n  - stage: live\n    gates:\n      |", "stages gates",
			[]string{"cases", "approvals"}, []string{"target"}},
		{"in a second stage", sv, "stages:\n  - stage: trial\n    target: local/north\n  - stage: live\n    |", "stages",
			[]string{"target"}, []string{"stage"}},
		{"when it enters", sv, "stages:\n  - stage: live\n    enter: {after: trial, when: |", "stages enter when",
			[]string{"ready", "request"}, []string{"push"}},
		{"after which stage", sv, "stages:\n  - stage: live\n    enter: {after: |", "stages enter after",
			[]string{"trial"}, []string{"live"}},
		{"a key of a case", cs, "case: x\nsend: {|", "send", []string{"route", "trigger", "payload"}, nil},
		{"in a broken file", fn, "handler: [warn\nmemory: 128\n|", "", []string{"timeout"}, []string{"memory"}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			a, labels := assist(t, tt.file, tt.text)
			if got := strings.Join(a.Path, " "); got != tt.path {
				t.Errorf("path %q, want %q", got, tt.path)
			}
			for _, want := range tt.has {
				if !slices.Contains(labels, want) {
					t.Errorf("%q is not offered in %v", want, labels)
				}
			}
			for _, not := range tt.not {
				if slices.Contains(labels, not) {
					t.Errorf("%q is offered", not)
				}
			}
		})
	}
	if a, _ := assist(t, fn, "timeout: 10s|"); !strings.Contains(a.About, "longest") &&
		!strings.Contains(a.About, "How long") || !strings.Contains(a.About, "Default: 10s.") {
		t.Errorf("description: %q", a.About)
	}
}

func FuzzAssist(f *testing.F) {
	f.Add("triggers:\n  ask: {route: \"", 2, 10)
	f.Add("- - - {a: [b: {", 1, 15)
	f.Fuzz(func(_ *testing.T, text string, line, column int) {
		for _, file := range []string{"rudmar.yaml", "f/function.yaml", "f/cases/c.yaml"} {
			author.At(author.Cursor{File: file, Text: text, Line: line, Column: column}, author.Names{})
		}
	})
}
