package manifest_test

import (
	"errors"
	"strings"
	"testing"

	"rudmar/core/manifest"
)

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
		{"${env.HOME}", "", "expected settings"},
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
