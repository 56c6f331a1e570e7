package language_test

import (
	"fmt"
	"slices"
	"testing"

	"rudmar/core/diagnostic"
	"rudmar/core/language"
)

func Example() {
	memory := language.New().Of("function.yaml").Key("memory")
	fmt.Println(memory.About, "Where nothing is said:", memory.BuiltIn)
	m := memory.Shape.Misfit("192", false, "memory")
	fmt.Println(m.Code, m.Message)
	fmt.Println(m.Title)
	// Output:
	// The memory limit of one instance, a multiple of 16 MiB. Where nothing is said: 128 MiB
	// RM1203 memory: "192" has no unit; write MiB or GiB, as in 128 MiB
	// Write 192 MiB
}

func TestMisfits(t *testing.T) {
	size := &language.Shape{Form: language.SizeForm, Min: 64 << 20, Max: 1 << 30, Step: 16 << 20}
	whole := &language.Shape{Form: language.IntegerForm, Min: 1, Max: 10}
	choice := &language.Shape{Form: language.ChoiceForm, Choices: []string{"python", "node"}}
	of := func(f language.Form) *language.Shape { return &language.Shape{Form: f, Min: 0, Max: 60} }
	for _, tt := range []struct {
		shape  *language.Shape
		text   string
		quoted bool
		code   diagnostic.Code // "" if it fits
		fix    string
	}{
		{size, "128 MiB", false, "", ""}, {size, "128", false, diagnostic.CodeUnit, "128 MiB"},
		{size, "128 mb", false, diagnostic.CodeUnit, "128 MiB"},
		{size, "128 sheep", false, diagnostic.CodeUnit, ""}, {size, "much", false, diagnostic.CodeNotNumber, ""},
		{size, "32 MiB", false, diagnostic.CodeRange, ""}, {size, "2 GiB", false, diagnostic.CodeRange, ""},
		{size, "100 MiB", false, diagnostic.CodeMultiple, "112 MiB"},
		{of(language.TimeForm), "10s", false, "", ""}, {of(language.TimeForm), "10", false, diagnostic.CodeUnit, "10s"},
		{of(language.TimeForm), "2m", false, diagnostic.CodeRange, ""},
		{&language.Shape{Form: language.ShareForm, Max: 1}, "10%", false, "", ""},
		{&language.Shape{Form: language.ShareForm, Max: 1}, "0.1", false, diagnostic.CodeUnit, "0.1%"},
		{whole, "5", false, "", ""}, {whole, "5", true, diagnostic.CodeNotNumber, ""},
		{whole, "1.5", false, diagnostic.CodeNotNumber, ""}, {whole, "11", false, diagnostic.CodeRange, ""},
		{choice, "node", false, "", ""}, {choice, "pyton", false, diagnostic.CodeChoice, "python"},
		{choice, "cobol", false, diagnostic.CodeChoice, ""},
		{of(language.BoolForm), "true", false, "", ""},
		{of(language.BoolForm), "yes", false, diagnostic.CodeChoice, "true"},
		{of(language.BoolForm), "maybe", false, diagnostic.CodeChoice, ""},
		{of(language.NameForm), "warn-1", false, "", ""},
		{of(language.NameForm), "Warn_1", false, diagnostic.CodeName, "warn-1"},
		{of(language.NameForm), "1", false, diagnostic.CodeName, ""},
		{of(language.TargetForm), "local/north", false, "", ""},
		{of(language.TargetForm), "north", false, diagnostic.CodeTarget, ""},
		{of(language.TextForm), "a text", false, "", ""},
		{of(language.TextForm), "${settings.a}", false, diagnostic.CodeReferencePlace, ""},
		{of(language.RouteForm), "no route at all", false, "", ""}, // others read it
	} {
		m := tt.shape.Misfit(tt.text, tt.quoted, "it")
		switch {
		case tt.code == "" && m != nil:
			t.Errorf("%q: %s", tt.text, m.Message)
		case tt.code != "" && (m == nil || m.Code != tt.code || m.Text != tt.fix):
			t.Errorf("%q: %+v, want %s and %q", tt.text, m, tt.code, tt.fix)
		case m != nil && m.Text != "" && tt.shape.Misfit(m.Text, false, "it") != nil:
			t.Errorf("%q: %q does not fit either", tt.text, m.Text)
		}
	}
}

// Every key of a file has its place in the usual order, and nothing else has.
func TestOrderListsEveryKey(t *testing.T) {
	l := language.New()
	for _, file := range []string{"rudmar.yaml", "functions/warn/function.yaml", "functions/warn/cases/mild.yaml"} {
		order, keys := language.Order(file), l.Of(file).Names()
		slices.Sort(order)
		slices.Sort(keys)
		if !slices.Equal(order, keys) {
			t.Errorf("%s: in order %v, keys %v", file, order, keys)
		}
	}
}

// Every key is documented, and every built-in value fits its key.
func TestKeysAreComplete(t *testing.T) {
	l := language.New()
	seen := 0
	var walk func(s *language.Shape, at string)
	walk = func(s *language.Shape, at string) {
		for _, k := range s.Keys {
			seen++
			name := at + "." + k.Name
			if k.About == "" || k.Shape == nil {
				t.Errorf("%s: %+v", name, k)
				continue
			}
			if k.BuiltIn != "" {
				if m := k.Shape.Misfit(k.BuiltIn, false, name); m != nil {
					t.Errorf("%s: its built-in value: %s", name, m.Message)
				}
			}
			walk(k.Shape, name)
		}
		if s.Of != nil {
			walk(s.Of, at)
		}
	}
	walk(l.Service, "service")
	walk(l.Function, "function")
	walk(l.Case, "case")
	if seen < 80 {
		t.Errorf("only %d keys were looked at", seen)
	}
}

func TestDefines(t *testing.T) {
	for _, tt := range []struct {
		runtime, code string
		want          bool
	}{
		{"python", "def run(call):\n", true}, {"python", "async def run(call):\n", true}, {"python", "run = other\n", true},
		{"python", "from other import run\n", true},
		{"python", "def runner(call):\n", false}, {"python", "    def run(call):\n", false},
		{"python", "from other import (\n  run)\n", true},
		{"node", "export const run = () => 1", true}, {"node", "exports.runner = 1", false},
		{"go", "func run(call rudmar.Call) any {", true}, {"go", "// run does not exist", false},
		{"go", "func runs() {", false},
	} {
		if got := language.Defines(tt.code, "run", tt.runtime); got != tt.want {
			t.Errorf("%s %q: %v", tt.runtime, tt.code, got)
		}
	}
	if len(language.Endings("cobol")) != 0 {
		t.Error("a runtime that does not exist has files")
	}
}
