package starter_test

import (
	"errors"
	"testing"

	"rudmar/core/check"
	"rudmar/core/manifest"
	"rudmar/starter"
)

// A starter has no problem, and brings a route and a case.
func TestStartersAreValid(t *testing.T) {
	for _, runtime := range starter.Runtimes() {
		files, err := starter.Function("orchard-gate", runtime)
		if err != nil {
			t.Fatal(err)
		}
		folder := manifest.Files{
			"rudmar.yaml": []byte("rudmar: 1\nservice: s\nstages: [{stage: trial, target: local/north, enter: {when: push}}]\n")}
		for name, text := range files {
			folder[name] = []byte(text)
		}
		r := check.Service(folder)
		if !r.OK() || len(r.Diagnostics) > 0 {
			t.Errorf("%s: %v", runtime, r.Diagnostics)
			continue
		}
		fn := r.Service.Function("orchard-gate")
		if fn == nil || len(fn.Cases) != 1 || len(fn.At("").Triggers) != 1 || fn.At("").Runtime.V != runtime {
			t.Errorf("%s: %+v", runtime, fn)
		}
	}
	if _, err := starter.Function("x", "cobol"); !errors.Is(err, starter.ErrRuntime) {
		t.Errorf("another runtime: %v", err)
	}
}
