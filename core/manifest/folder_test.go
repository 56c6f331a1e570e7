package manifest_test

import (
	"strings"
	"testing"
	"testing/fstest"

	"rudmar/core/manifest"
)

func TestTree(t *testing.T) {
	tree, err := manifest.FromFS(fstest.MapFS{
		"rudmar.yaml": {Data: []byte("x")}, ".git/config": {Data: []byte("x")}, "node_modules/a/b.js": {},
		"functions/a/function.yaml": {}, "link": {Mode: 0o777 | 1<<27},
	})
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(tree.Files(), " "); got != "functions/a/function.yaml rudmar.yaml" {
		t.Errorf("files: %s", got)
	}
	if _, err := tree.Read("nothing"); err == nil {
		t.Error("a file that does not exist can be read")
	}
}

func TestOverlay(t *testing.T) {
	under := manifest.FilesOf(map[string]string{"rudmar.yaml": "old", "functions/warn/function.yaml": "warn",
		"functions/warn/warn.py": "code"})
	over := manifest.Overlay{Under: under,
		Changed: map[string][]byte{"rudmar.yaml": []byte("new"), "functions/warn/warn.py": nil, "a.txt": []byte("x")}}
	if got := strings.Join(over.Files(), " "); got != "a.txt functions/warn/function.yaml rudmar.yaml" {
		t.Errorf("files: %s", got)
	}
	if text, err := over.Read("rudmar.yaml"); string(text) != "new" || err != nil {
		t.Errorf("changed: %q %v", text, err)
	}
	if _, err := over.Read("functions/warn/warn.py"); err == nil {
		t.Error("a file that was removed can be read")
	}
}

// What a check reads is reported by its name and its place.
func TestManifestFiles(t *testing.T) {
	for name, want := range map[string]string{
		"rudmar.yaml": "manifest", "functions/warn/function.yaml": "manifest", "functions/warn/cases/cold.yaml": "manifest case",
		"functions/warn/rudmar.yaml": "", "cases.yaml": "", "functions/warn/cases/cold.json": "", "functions/warn/warn.py": "",
		"freezes.ics": "calendar", "functions/freezes.ics": "", "freezes.ics.txt": "",
	} {
		var is []string
		for _, kind := range []struct {
			name string
			is   bool
		}{{"manifest", manifest.IsManifest(name)}, {"case", manifest.IsCase(name)}, {"calendar", manifest.IsCalendar(name)}} {
			if kind.is {
				is = append(is, kind.name)
			}
		}
		if got := strings.Join(is, " "); got != want {
			t.Errorf("%s is %q, want %q", name, got, want)
		}
	}
}

// batches is a folder that reads many files in one request, and records which.
type batches struct {
	manifest.Folder
	loaded []string
}

func (b *batches) Load(names []string) error {
	b.loaded = append(b.loaded, names...)
	return nil
}

func TestOverlaysLoadTheirBase(t *testing.T) {
	under := &batches{Folder: manifest.FilesOf(map[string]string{"a": "", "b": ""})}
	over := manifest.Overlay{Under: under, Changed: map[string][]byte{"b": []byte("new")}}
	if err := over.Load([]string{"a", "b"}); err != nil || strings.Join(under.loaded, " ") != "a" {
		t.Errorf("%v, loaded %v", err, under.loaded)
	}
	if err := (manifest.Overlay{Under: under.Folder}).Load([]string{"a"}); err != nil {
		t.Error(err)
	}
}
