package manifest_test

import (
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"rudmar/core/manifest"
)

func TestSizes(t *testing.T) {
	tests := []struct {
		text string
		want int64
		err  error
	}{
		{"128 MiB", 128 << 20, nil}, {"1GiB", 1 << 30, nil}, {"64 KiB", 64 << 10, nil}, {"1.5 GiB", 3 << 29, nil},
		{"128", 0, manifest.ErrNoUnit}, {"128 MB", 0, manifest.ErrWrongUnit}, {"128 mib", 0, manifest.ErrWrongUnit},
		{"", 0, manifest.ErrNotNumber}, {"MiB", 0, manifest.ErrNotNumber}, {"-1 MiB", 0, manifest.ErrNotNumber}, {"1e9 GiB", 0, manifest.ErrWrongUnit}, {"9999999 GiB", 0, manifest.ErrNotNumber},
	}
	for _, tt := range tests {
		if got, err := manifest.ParseSize(tt.text); got != tt.want || !errors.Is(err, tt.err) {
			t.Errorf("%q: %d %v, want %d %v", tt.text, got, err, tt.want, tt.err)
		}
	}
}

func TestTimes(t *testing.T) {
	tests := []struct {
		text string
		want time.Duration
		err  error
	}{
		{"10s", 10 * time.Second, nil}, {"250ms", 250 * time.Millisecond, nil}, {"1h30m", 90 * time.Minute, nil}, {"14d", 14 * 24 * time.Hour, nil}, {"0.5s", 500 * time.Millisecond, nil}, {"1 h", time.Hour, nil},
		{"10", 0, manifest.ErrNoUnit}, {"10 sec", 0, manifest.ErrWrongUnit}, {"", 0, manifest.ErrNotNumber}, {"s", 0, manifest.ErrNotNumber}, {"-5s", 0, manifest.ErrNotNumber}, {"99999999999d", 0, manifest.ErrNotNumber},
	}
	for _, tt := range tests {
		if got, err := manifest.ParseTime(tt.text); got != tt.want || !errors.Is(err, tt.err) {
			t.Errorf("%q: %v %v, want %v %v", tt.text, got, err, tt.want, tt.err)
		}
	}
}

func TestShares(t *testing.T) {
	for text, want := range map[string]float64{"10%": 0.1, "0.5 %": 0.005, "100%": 1} {
		if got, err := manifest.ParseShare(text); got != want || err != nil {
			t.Errorf("%q: %v %v", text, got, err)
		}
	}
	for _, text := range []string{"10", "ten%", "", "5 percent"} {
		if _, err := manifest.ParseShare(text); err == nil {
			t.Errorf("%q was taken", text)
		}
	}
}

// What is formatted reads back as the same.
func TestFormatsReadBack(t *testing.T) {
	dice := rand.New(rand.NewPCG(1, 2))
	for range 2000 {
		size := dice.Int64N(4096) << 20
		if size > 0 {
			if back, err := manifest.ParseSize(manifest.FormatSize(size)); back != size || err != nil {
				t.Fatalf("%d is written %q and reads %d %v", size, manifest.FormatSize(size), back, err)
			}
		}
		d := time.Duration(dice.Int64N(int64(30*24*time.Hour))).Truncate(time.Millisecond) + time.Millisecond
		if back, err := manifest.ParseTime(manifest.FormatTime(d)); back != d || err != nil {
			t.Fatalf("%v is written %q and reads %v %v", d, manifest.FormatTime(d), back, err)
		}
	}
}

func TestTemplates(t *testing.T) {
	tests := []struct{ text, want, problem string }{
		{"plain", "plain", ""},
		{"", "", ""},
		{"a ${settings.x} b", "a |settings:x| b", ""},
		{"${secrets.k}${stage.name}", "secrets:k|stage.name:", ""},
		{"$${not} $$", "${not} $$", ""},
		{"${functions.warn.url}", "functions:warn", ""},
		{"${version}/${service}/${stage.region}", "version:|/|service:|/|stage.region:", ""},
		{"${settings.}", "", "${settings.name}"},
		{"${settings}", "", "${settings.name}"},
		{"${", "", "not closed"},
		{"${functions.warn}", "", "functions.name.url"},
		{"${stage.nam}", "", `did you mean "stage.name"`},
		{"${env.HOME}", "", "there are settings"},
	}
	for _, tt := range tests {
		template, err := manifest.ParseTemplate(tt.text)
		if tt.problem != "" {
			var form *manifest.FormError
			if !errors.As(err, &form) || !strings.Contains(form.Problem, tt.problem) {
				t.Errorf("%q: %v, want %q", tt.text, err, tt.problem)
			}
			continue
		}
		var parts []string
		for _, p := range template {
			if p.Kind == "" {
				parts = append(parts, p.Literal)
			} else {
				parts = append(parts, string(p.Kind)+":"+p.Name)
			}
		}
		if got := strings.Join(parts, "|"); got != tt.want || err != nil {
			t.Errorf("%q: %q %v, want %q", tt.text, got, err, tt.want)
		}
	}
}

func TestNearest(t *testing.T) {
	known := []string{"memory", "timeout", "handler", "permissions"}
	for text, want := range map[string]string{"memroy": "memory", "timout": "timeout", "handeler": "handler", "permission": "permissions", "colour": "", "": "", "memory": "memory", "xyz": ""} {
		if got := manifest.Nearest(text, known); got != want {
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
	seen := map[manifest.Code]bool{}
	for _, e := range manifest.Explanations() {
		if seen[e.Code] || !declared[string(e.Code)] {
			t.Errorf("%s is explained twice, or is no code", e.Code)
		}
		seen[e.Code] = true
		if e.Title == "" || e.Why == "" || e.Wrong == "" || e.Right == "" {
			t.Errorf("%s: %+v", e.Code, e)
		}
		if back, ok := manifest.Explain(e.Code); !ok || back != e {
			t.Errorf("Explain(%s) = %+v", e.Code, back)
		}
		delete(declared, string(e.Code))
	}
	if len(declared) > 0 {
		t.Errorf("not explained: %v", declared)
	}
	if _, ok := manifest.Explain("RM0000"); ok {
		t.Error("a code that is none is explained")
	}
}

func TestExcerpt(t *testing.T) {
	d := manifest.Diagnostic{Code: "RM1101", Range: manifest.Range{File: "f.yaml", Line: 2, Column: 3, EndLine: 2, EndColumn: 6}, Message: "wrong"}
	if got, want := d.Excerpt([]byte("one\n  täg: x\r\n")), "    2 |   täg: x\n      |   ^^^"; got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if got := d.String(); got != "f.yaml:2:3: wrong (RM1101)" {
		t.Error(got)
	}
	d.Line = 9
	if d.Excerpt([]byte("one")) != "" {
		t.Error("a line that is not there has an excerpt")
	}
	d.Line, d.Column, d.EndLine, d.EndColumn = 1, 500, 1, 900
	_ = d.Excerpt([]byte("short")) // a place beyond the line is no reason to fail
}

func TestApplyLeavesOverlapsForLater(t *testing.T) {
	at := func(from, to int) manifest.Range {
		return manifest.Range{File: "f", Line: 1, Column: from, EndLine: 1, EndColumn: to}
	}
	fix := func(r manifest.Range, text string) manifest.Diagnostic {
		return manifest.Diagnostic{Range: r, Fix: &manifest.Fix{Edits: []manifest.Edit{{Range: r, Text: text}}}}
	}
	got := manifest.Apply([]byte("äbcdef\nnext"), []manifest.Diagnostic{fix(at(5, 7), "X"), fix(at(2, 4), "-"), fix(at(3, 6), "lost"), {Range: at(1, 2)}})
	if string(got) != "ä-dX\nnext" {
		t.Errorf("got %q", got)
	}
}

func TestSort(t *testing.T) {
	d := func(file string, line, column int, code manifest.Code) manifest.Diagnostic {
		return manifest.Diagnostic{Code: code, Range: manifest.Range{File: file, Line: line, Column: column}}
	}
	list := []manifest.Diagnostic{d("b", 1, 1, "RM1"), d("a", 2, 1, "RM1"), d("a", 1, 2, "RM2"), d("a", 1, 2, "RM1"), d("a", 1, 1, "RM9")}
	manifest.Sort(list)
	if got := fmt.Sprintln(list[0].Code, list[1].Code, list[2].Code, list[3].Line, list[4].File); got != "RM9 RM1 RM2 2 b\n" {
		t.Error(got)
	}
}

func TestTree(t *testing.T) {
	tree, err := manifest.NewTree(fstest.MapFS{
		"rudmar.yaml": {Data: []byte("x")}, ".git/config": {Data: []byte("x")}, "node_modules/a/b.js": {}, "functions/a/function.yaml": {}, "link": {Mode: 0o777 | 1<<27},
	})
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(tree.Files(), " "); got != "functions/a/function.yaml rudmar.yaml" {
		t.Errorf("files: %s", got)
	}
	if _, err := tree.Read("nothing"); err == nil {
		t.Error("a file that is not there can be read")
	}
}

func FuzzCheck(f *testing.F) {
	f.Add(warn, service)
	f.Add("function: &a x\nhandler: *a", "rudmar: 1")
	f.Add("triggers: {a: {route: \"GET /{x}\"}}", "stages: [{stage: a}]")
	f.Add("in: {live: null}\nenv: null\npermissions: [null]", "stages: null\nsettings: {a: null}\ndefaults: null")
	language := manifest.NewLanguage()
	f.Fuzz(func(t *testing.T, function, root string) {
		files := manifest.Files{"rudmar.yaml": []byte(root), "functions/warn/function.yaml": []byte(function), "functions/warn/cases/c.yaml": []byte(function)}
		r := language.Check(files)
		for _, d := range r.Diagnostics {
			if d.Line < 1 || d.Column < 1 || d.Message == "" || d.Code == "" {
				t.Errorf("a diagnostic without a place or a text: %+v", d)
			}
			_ = d.Excerpt(files[d.File])
		}
		for _, text := range files {
			_ = manifest.Apply(text, r.Diagnostics)
		}
	})
}

func FuzzParseTemplate(f *testing.F) {
	for _, s := range []string{"${settings.a}", "$${x}", "${", "a${functions.b.url}c"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		template, err := manifest.ParseTemplate(text)
		var form *manifest.FormError
		if errors.As(err, &form) && (form.Offset < 0 || form.Offset+form.Length > len(text)) {
			t.Errorf("%q: place %d+%d", text, form.Offset, form.Length)
		}
		for _, p := range template {
			if p.Kind != "" && text[p.Offset:p.Offset+2] != "${" {
				t.Errorf("%q: %+v", text, p)
			}
		}
	})
}
