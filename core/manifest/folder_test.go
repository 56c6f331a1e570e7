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
		t.Error("a file that is not there can be read")
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
		t.Error("a file that was taken away can be read")
	}
}
