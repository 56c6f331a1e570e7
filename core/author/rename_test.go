package author_test

import (
	"errors"
	"strings"
	"testing"

	"rudmar/core/author"
	"rudmar/core/check"
	"rudmar/core/manifest"
)

func TestRename(t *testing.T) {
	folder := sound(t, map[string]string{
		"rudmar.yaml":                   strings.Replace(service, "cases: all", "cases: [warn]", 1),
		"functions/warn/notes/plan.txt": "notes",
		"functions/grade/function.yaml": "function: grade\nhandler: main:run\nenv: {AT: \"see ${functions.warn.url}/x\"}\ntriggers:\n  after: {after_function: warn, events: [failed]}\n",
		"functions/grade/main.py":       "def run(call): pass\n",
	})
	before := check.Service(folder)
	if !before.OK() {
		t.Fatal(before.Diagnostics)
	}
	edits, err := author.Rename(folder, before.Service, "warn", "caution")
	if err != nil {
		t.Fatal(err)
	}
	after := check.Service(manifest.Overlay{Under: folder, Changed: edits})
	if !after.OK() {
		t.Fatalf("%v\n%s", after.Diagnostics, edits)
	}
	fn := after.Service.Function("caution")
	if fn == nil || fn.RenamedFrom != "warn" || fn.File != "functions/caution/function.yaml" ||
		after.Service.Function("warn") != nil {
		t.Fatalf("it became %+v", fn)
	}
	for name, want := range map[string]string{"functions/grade/function.yaml": "see ${functions.caution.url}/x",
		"functions/caution/notes/plan.txt": "notes", "rudmar.yaml": "cases: [caution]"} {
		if !strings.Contains(string(edits[name]), want) {
			t.Errorf("%s became %q", name, edits[name])
		}
	}
	if text, there := edits["functions/warn/warn.py"]; !there || text != nil {
		t.Errorf("the old code stays: %q", text)
	}

	// Again before a deployment: the former name stays.
	again := manifest.Overlay{Under: folder, Changed: edits}
	edits, err = author.Rename(again, after.Service, "caution", "notice")
	if err != nil || !strings.Contains(string(edits["functions/notice/function.yaml"]), "function: notice\nrenamed_from: warn\n") {
		t.Errorf("%v %q", err, edits["functions/notice/function.yaml"])
	}
	for _, c := range []struct {
		from, to string
		want     error
	}{{"lost", "x", author.ErrNoFunction}, {"warn", "grade", author.ErrNameTaken}, {"warn", "Warn", author.ErrNotName}} {
		if _, err := author.Rename(folder, before.Service, c.from, c.to); !errors.Is(err, c.want) {
			t.Errorf("%s to %s: %v", c.from, c.to, err)
		}
	}
}
