package check_test

import (
	"testing"

	"rudmar/core/check"
	"rudmar/core/diagnostic"
	"rudmar/core/manifest"
)

func FuzzCheck(f *testing.F) {
	f.Add(warn, service)
	f.Add("function: &a x\nhandler: *a", "rudmar: 1")
	f.Add("triggers: {a: {route: \"GET /{x}\"}}", "stages: [{stage: a}]")
	f.Add("in: {live: null}\nenv: null\npermissions: [null]", "stages: null\nsettings: {a: null}\ndefaults: null")
	f.Fuzz(func(t *testing.T, function, root string) {
		files := manifest.Files{"rudmar.yaml": []byte(root), "functions/warn/function.yaml": []byte(function),
			"functions/warn/cases/c.yaml": []byte(function)}
		r := check.Service(files)
		for _, d := range r.Diagnostics {
			if d.Line < 1 || d.Column < 1 || d.Message == "" || d.Code == "" {
				t.Errorf("a diagnostic without a place or a text: %+v", d)
			}
			_ = d.Excerpt(files[d.File])
		}
		for _, text := range files {
			_ = diagnostic.Apply(text, r.Diagnostics)
		}
	})
}
