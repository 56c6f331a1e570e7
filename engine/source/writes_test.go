package source_test

import (
	"errors"
	"maps"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"rudmar/engine/source"
)

// A fetch is limited in size as a push is.
func TestLargeFetches(t *testing.T) {
	h, address, _ := host(t)
	noise := make([]byte, 3<<20)
	for i := range noise {
		noise[i] = byte(i*i>>3 ^ i>>11 ^ i*i*i>>5)
	}
	files := sound()
	files["frostline/functions/warn/noise.bin"] = string(noise)
	if out, err := pushFiles(t, address, "wren", "main", files); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if err := h.Create(t.Context(), "mirror"); err != nil {
		t.Fatal(err)
	}
	at, err := url.Parse(address + "/brambleford.git")
	if err != nil {
		t.Fatal(err)
	}
	port, err := strconv.Atoi(at.Port())
	if err != nil {
		t.Fatal(err)
	}
	of := source.MirrorOf{URL: at.String(), Host: at.Hostname(), Port: port, At: netip.MustParseAddr("127.0.0.1"), User: "wren",
		Password: "right", Most: 1 << 20}
	if heads, err := h.Repository("mirror").FetchFrom(t.Context(), of); !errors.Is(err, source.ErrTooMuch) {
		t.Errorf("more than the limit: %v %v", heads, err)
	}
	of.Most = 0
	if heads, err := h.Repository("mirror").FetchFrom(t.Context(), of); err != nil || heads["main"] == "" {
		t.Errorf("within the limit: %v %v", heads, err)
	}
}

// An author in one service can change only its folder: by a commit, a merge, a moved branch, a new service, or another
// name in the manifest.
func TestPushesOfAnAuthorInOneService(t *testing.T) {
	_, address, _ := host(t)
	files := sound()
	boxes := map[string]string{}
	for name, text := range files {
		boxes[strings.Replace(name, "frostline/", "boxes/", 1)] = strings.Replace(text, "service: frostline", "service: boxes", 1)
	}
	maps.Copy(files, boxes)
	if out, err := pushFiles(t, address, "wren", "main", files); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	dir := filepath.Join(t.TempDir(), "work")
	at := strings.Replace(address, "http://", "http://sorrel:right@", 1) + "/brambleford.git"
	must := func(args ...string) {
		t.Helper()
		if out, err := git(t, dir, args...); err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
	}
	if out, err := git(t, filepath.Dir(dir), "clone", "--quiet", at, dir); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	must("config", "user.name", "sorrel")
	must("config", "user.email", "s@x.invalid")
	write := func(name, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	manifest := boxes["boxes/rudmar.yaml"]
	for _, tt := range []struct {
		name   string
		change func()
		to     string
		want   string // "" if it is accepted
	}{
		{"a file of their service", func() { write("boxes/notes.md", "a") }, "main", ""},
		{"a file of another service", func() { write("frostline/notes.md", "a") }, "main", "belongs to the service frostline"},
		{"on a branch of nobody", func() { write("frostline/notes.md", "a") }, "mine", "belongs to the service frostline"},
		{"a new service", func() { write("stolen/rudmar.yaml", strings.Replace(manifest, "boxes", "stolen", 1)) }, "main", "is in the new service \"stolen\""},
		{"a new service in their folder", func() { write("boxes/in/rudmar.yaml", strings.Replace(manifest, "boxes", "stolen", 1)) }, "mine", "new service"},
		{"another name", func() { write("boxes/rudmar.yaml", strings.Replace(manifest, "boxes", "stolen", 1)) }, "main", "new service"},
		{"a file of no service", func() { write("README.md", "a") }, "main", "belongs to no service"},
		{"a merge that changes more", func() {
			must("checkout", "--quiet", "-b", "side")
			write("boxes/side.md", "a")
			must("add", "--all")
			must("commit", "--quiet", "-m", "side")
			must("checkout", "--quiet", "-")
			must("merge", "--quiet", "--no-ff", "--no-commit", "side")
			write("frostline/notes.md", "hidden in a merge")
		}, "mine", "belongs to the service frostline"},
		{"an older commit", func() {
			wide := maps.Clone(files)
			wide["frostline/notes.md"] = "by wren"
			if out, err := pushFiles(t, address, "wren", "main", wide); err != nil {
				t.Fatalf("%v\n%s", err, out)
			}
		}, "+main", "belongs to the service frostline"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			must("fetch", "--quiet", "origin")
			must("checkout", "--quiet", "--detach", "origin/main")
			must("branch", "-qf", "side")
			must("branch", "-qD", "side")
			tt.change()
			must("add", "--all")
			must("commit", "--quiet", "--allow-empty", "-m", tt.name)
			force, to, _ := strings.Cut("+"+strings.TrimPrefix(tt.to, "+"), "+")
			out, err := git(t, dir, "push", "--force", "origin", force+"HEAD:refs/heads/"+to)
			if (err == nil) != (tt.want == "") || !strings.Contains(out, tt.want) {
				t.Errorf("%v\n%s", err, out)
			}
		})
	}
	var nobody source.Writes
	if !nobody.Nothing() || nobody.Refused([]string{"a"}) == "" {
		t.Error("without rights something can be changed")
	}
	if why := (source.Writes{Folders: []string{"boxes"}}).Refused([]string{"boxes/new/rudmar.yaml"}); why != "" {
		t.Errorf("a folder that can be changed: %s", why)
	}
}
