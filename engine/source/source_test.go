package source_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"rudmar/core/check"
	"rudmar/core/manifest"
	"rudmar/engine/source"
)

// The test program is its own hook: git runs it as Rudmar's hooks run Rudmar.
func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == source.HookCommand && os.Args[2] == source.PostReceive {
		after := source.After{Page: "http://page",
			Found: func(context.Context, string, source.Move) ([]source.PushOutcome, bool, bool, error) {
				return []source.PushOutcome{{Service: "frostline", Version: 4, Stages: []string{"trial", "live"}},
					{Service: "watering", Reason: "no such file"}}, true, true, nil
			}}
		if err := after.PostReceive(context.Background(), os.Stdin, os.Stderr); err != nil {
			os.Exit(1)
		}
		os.Exit(0)
	}
	if len(os.Args) > 1 && os.Args[1] == source.HookCommand {
		hook := source.Hook{Repository: os.Getenv(source.RepositoryVariable),
			Owner: func(_ context.Context, service string) (string, error) {
				return map[string]string{"watering": "elsewhere", "frostline": "brambleford"}[service], nil
			}, Writes: &source.Writes{}}
		if err := json.Unmarshal([]byte(os.Getenv(source.WritesVariable)), hook.Writes); err != nil {
			os.Exit(1)
		}
		if err := hook.PreReceive(context.Background(), os.Stdin, os.Stderr); err != nil {
			if !errors.Is(err, source.ErrDenied) {
				fmt.Fprintln(os.Stderr, err)
			}
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

const root = "rudmar: 1\nservice: frostline\nstages: [{stage: trial, target: local/north, enter: {when: push, branch: taken}}]\n"
const fn = "function: warn\nhandler: warn:run\n"

func host(t *testing.T) (*source.Host, string, *[]string) {
	t.Helper()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	pushed := &[]string{}
	h, err := source.NewHost(t.TempDir(), self, func(r *http.Request) (source.Visitor, error) {
		username, password, _ := r.BasicAuth()
		if password != "right" {
			return source.Visitor{}, errors.New("who are you?")
		}
		return source.Visitor{Username: username, MayRead: func(string) error { return nil }, MayPush: func(string) (source.Writes, error) {
			switch username {
			case "wren":
				return source.Writes{Everything: true}, nil
			case "sorrel": // an author in boxes
				return source.Writes{Services: []string{"boxes"}, Known: map[string]string{"boxes": "boxes", "frostline": "frostline"}}, nil
			}
			return source.Writes{}, errors.New("ask an author")
		}}, nil
	}, func(_ context.Context, repository, username string) {
		*pushed = append(*pushed, repository+" by "+username)
	})
	if err != nil {
		t.Fatal(err)
	}
	if err := h.Create(t.Context(), "brambleford"); err != nil {
		t.Fatal(err)
	}
	server := httptest.NewServer(h)
	t.Cleanup(server.Close)
	return h, server.URL, pushed
}

func git(t *testing.T, dir string, args ...string) (string, error) {
	t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GIT_TERMINAL_PROMPT=0", "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null",
		"GIT_AUTHOR_NAME=wren", "GIT_AUTHOR_EMAIL=w@x.invalid", "GIT_COMMITTER_NAME=wren", "GIT_COMMITTER_EMAIL=w@x.invalid")
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// pushFiles commits files into a fresh clone and pushes them to a branch.
func pushFiles(t *testing.T, address, username, branch string, files map[string]string) (string, error) {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "clone")
	address = strings.Replace(address, "http://", "http://"+username+":right@", 1) + "/brambleford.git"
	if out, err := git(t, t.TempDir(), "clone", "--quiet", address, dir); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	for name, text := range files {
		full := filepath.Join(dir, name)
		mode := os.FileMode(0o644)
		if strings.HasSuffix(name, ".sh") {
			mode = 0o755
		}
		if err := errors.Join(os.MkdirAll(filepath.Dir(full), 0o755), os.WriteFile(full, []byte(text), mode)); err != nil {
			t.Fatal(err)
		}
	}
	for _, args := range [][]string{{"checkout", "-q", "-B", branch}, {"add", "--all"},
		{"commit", "--quiet", "--allow-empty", "-m", "a change"}} {
		if out, err := git(t, dir, args...); err != nil {
			t.Fatalf("git %v: %v %s", args, err, out)
		}
	}
	return git(t, dir, "push", "origin", branch)
}

func sound() map[string]string {
	return map[string]string{"frostline/rudmar.yaml": root, "frostline/functions/warn/function.yaml": fn,
		"frostline/functions/warn/warn.py": "def run(c): pass\n"}
}

func TestPushes(t *testing.T) {
	h, address, pushed := host(t)
	if out, err := pushFiles(t, address, "wren", "main", sound()); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	broken := sound()
	broken["frostline/functions/warn/function.yaml"] = "function: warn\nhandler: wran:run\n"
	for branch, refused := range map[string]bool{"main": true, "taken": true, "feature": false} {
		out, err := pushFiles(t, address, "wren", branch, broken)
		if (err != nil) != refused || refused &&
			!strings.Contains(out,
				`frostline/functions/warn/function.yaml:2:10: no file functions/warn/wran.py; did you mean "warn"? (RM1605)`) {
			t.Errorf("a broken push to %s: %v\n%s", branch, err, out)
		}
	}
	if out, err := pushFiles(t, address, "linden", "main", sound()); err == nil || !strings.Contains(out, "403") {
		t.Errorf("a push without rights: %v\n%s", err, out)
	}
	// A body over a megabyte is sent chunked.
	large := sound()
	large["frostline/functions/warn/data.bin"] = strings.Repeat("0123456789abcdef\x00\x01",
		200_000) + fmt.Sprint(os.Getpid())
	noise := make([]byte, 3<<20)
	for i := range noise {
		noise[i] = byte(i*i>>3 ^ i>>11)
	}
	large["frostline/functions/warn/noise.bin"] = string(noise)
	if out, err := pushFiles(t, address, "wren", "main", large); err != nil {
		t.Errorf("a large push: %v\n%s", err, out)
	}
	if got := strings.Join(*pushed, ", "); strings.Count(got, "brambleford by wren") < 3 {
		t.Errorf("told of %s", got)
	}
	heads, err := h.Repository("brambleford").Heads(t.Context())
	if err != nil || len(heads) != 2 || heads["feature"] == "" {
		t.Errorf("heads: %v %v", heads, err)
	}
	dir := filepath.Join(t.TempDir(), "named")
	own := strings.Replace(address, "http://", "http://wren:right@", 1) + "/brambleford.git"
	if out, err := git(t, t.TempDir(), "clone", "--quiet", own, dir); err != nil {
		t.Fatal(err, out)
	}
	if out, err := git(t, dir, "push", own, "HEAD:refs/heads/refs/heads/main"); err == nil || !strings.Contains(out, "like a reference") {
		t.Errorf("a branch that is named like a reference: %v\n%s", err, out)
	}
	if out, err := git(t, dir, "push", strings.Replace(address, "http://", "http://wren:right@", 1)+"/brambleford.git",
		":main"); err == nil {
		t.Errorf("the main branch was deleted: %s", out)
	}
}

func TestOnlyGitEndpoints(t *testing.T) {
	_, address, _ := host(t)
	for path, want := range map[string]int{"/brambleford.git/info/refs?service=git-upload-pack": 401,
		"/brambleford.git/config": 404, "/brambleford.git/objects/info/packs": 404, "/../x.git/info/refs": 404, "/": 404} {
		response, err := http.Get(address + path)
		if err != nil {
			t.Fatal(err)
		}
		response.Body.Close()
		if response.StatusCode != want {
			t.Errorf("%s: %d, want %d", path, response.StatusCode, want)
		}
	}
}

func TestReadingAndCommitting(t *testing.T) {
	h, address, _ := host(t)
	files := sound()
	files["frostline/functions/warn/tool.sh"] = "#!/bin/sh\n"
	if out, err := pushFiles(t, address, "wren", "main", files); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	r, ctx := h.Repository("brambleford"), t.Context()
	head, err := r.Commit(ctx, "refs/heads/main")
	if err != nil || head.Author != "wren" || head.Message != "a change" || len(head.Hash) != 40 {
		t.Fatalf("%+v %v", head, err)
	}
	folder, err := r.Folder(ctx, head.Hash, "frostline")
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(folder.Files(),
		" "); got != "functions/warn/function.yaml functions/warn/tool.sh functions/warn/warn.py rudmar.yaml" {
		t.Errorf("files: %s", got)
	}
	if err := folder.Load([]string{"rudmar.yaml", "functions/warn/function.yaml"}); err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]string{"rudmar.yaml": root, "functions/warn/warn.py": "def run(c): pass\n"} {
		if text, err := folder.Read(name); string(text) != want || err != nil {
			t.Errorf("%s: %q %v", name, text, err)
		}
	}
	if _, err := folder.Read("../README.md"); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("a file outside: %v", err)
	}
	change := source.Change{Branch: "main", Base: head.Hash, Message: "by the page",
		Author: "linden", Email: "l@x.invalid",
		Files: map[string][]byte{"frostline/functions/warn/warn.py": []byte("def run(c): return 2\n"),
			"frostline/functions/warn/tool.sh": nil, "notes/new.txt": []byte("new")}}
	hash, err := r.Apply(ctx, change)
	if err != nil {
		t.Fatal(err)
	}
	after, err := r.Commit(ctx, hash)
	if err != nil || after.Parent != head.Hash || after.Author != "linden" {
		t.Errorf("%+v %v", after, err)
	}
	all, err := r.Folder(ctx, hash, ".")
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(all.Files(), " "); strings.Contains(got, "tool.sh") || !strings.Contains(got, "notes/new.txt") {
		t.Errorf("files: %s", got)
	}
	// A file that is executable stays so, edited or moved; another does not become so.
	modes := func(commit string) map[string]bool {
		list, err := r.Folder(ctx, commit, ".")
		if err != nil {
			t.Fatal(err)
		}
		out := map[string]bool{}
		for _, f := range list.Listed() {
			out[f.Path] = f.Executable
		}
		return out
	}
	edited, err := r.Apply(ctx,
		source.Change{Branch: "tools", New: true, Base: head.Hash, Message: "edit", Author: "linden", Email: "l@x.invalid",
			Files: map[string][]byte{"frostline/functions/warn/tool.sh": []byte("#!/bin/sh\n# edited\n"),
				"frostline/functions/warn/warn.py": []byte("# edited\n")}})
	if err != nil {
		t.Fatal(err)
	}
	moved, err := r.Apply(ctx,
		source.Change{Branch: "tools", Base: edited, Message: "move", Author: "linden", Email: "l@x.invalid",
			Files: map[string][]byte{"frostline/functions/warn/tool.sh": nil, "tool.sh": []byte("#!/bin/sh\n# edited\n"),
				"plain.sh": []byte("#!/bin/sh\n")}})
	if err != nil {
		t.Fatal(err)
	}
	if got := modes(edited); !got["frostline/functions/warn/tool.sh"] || got["frostline/functions/warn/warn.py"] {
		t.Errorf("executable after an edit: %v", got)
	}
	if got := modes(moved); !got["tool.sh"] || got["plain.sh"] {
		t.Errorf("executable after a move: %v", got)
	}
	if _, err := r.Apply(ctx, change); !errors.Is(err, source.ErrConflict) {
		t.Errorf("on an old base: %v", err)
	}
	for _, bad := range []string{"../outside", "/etc/x", "a//b", "a/../../b", "a\nb"} {
		change.Base, change.Files = hash, map[string][]byte{bad: []byte("x")}
		if _, err := r.Apply(ctx, change); err == nil {
			t.Errorf("%q was committed", bad)
		}
	}
	history, err := r.History(ctx, "main", "frostline/functions/warn/warn.py", 10)
	if err != nil || len(history) != 2 || history[0].Hash != hash {
		t.Errorf("history: %+v %v", history, err)
	}
	if _, err := r.Commit(ctx, "--help"); !errors.Is(err, source.ErrNoCommit) {
		t.Errorf("an option for a name: %v", err)
	}
}

// Symbolic links are left out, so none can lead out of the repository.
func TestLinksAreExcluded(t *testing.T) {
	h, address, _ := host(t)
	dir := filepath.Join(t.TempDir(), "clone")
	own := strings.Replace(address, "http://", "http://wren:right@", 1) + "/brambleford.git"
	if out, err := git(t, t.TempDir(), "clone", "--quiet", own, dir); err != nil {
		t.Fatal(out)
	}
	if err := errors.Join(os.Symlink("/etc/passwd", filepath.Join(dir, "rudmar.yaml")),
		os.WriteFile(filepath.Join(dir, "a.txt"), nil, 0o644)); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"checkout", "-q", "-B", "side"}, {"add", "--all"}, {"commit", "-qm", "a link"},
		{"push", "-q", "origin", "side"}} {
		if out, err := git(t, dir, args...); err != nil {
			t.Fatalf("git %v: %s", args, out)
		}
	}
	folder, err := h.Repository("brambleford").Folder(t.Context(), "side", ".")
	if err != nil || strings.Join(folder.Files(), " ") != "a.txt" {
		t.Errorf("files: %v %v", folder.Files(), err)
	}
}

func TestLongListsAreShortened(t *testing.T) {
	files := manifest.Files{"rudmar.yaml": []byte(root)}
	text := "function: warn\nhandler: warn:run\n"
	for i := range 40 {
		text += fmt.Sprintf("wrong%d: x\n", i)
	}
	files["functions/warn/function.yaml"] = []byte(text)
	var out bytes.Buffer
	source.WriteCheck(&out, "main", source.Checked{Dir: "frostline", Folder: &source.Folder{}, Result: check.Service(files)})
	if !strings.Contains(out.String(), "has 41 problems") || !strings.Contains(out.String(), "and 21 more") {
		t.Errorf("told:\n%s", out.String())
	}
}

// A merge keeps every line of both sides: random edits of different lines merge without conflicts, and edits of the
// same lines are kept between markers.
func TestMerge(t *testing.T) {
	h, _, _ := host(t)
	if err := h.Create(t.Context(), "brambleford"); err != nil {
		t.Fatal(err)
	}
	repo := h.Repository("brambleford")
	random := rand.New(rand.NewPCG(7, 3))
	for range 60 {
		var base, mine, theirs []string
		conflict := false
		for i := range 4 + random.IntN(12) {
			line := fmt.Sprintf("line %d", i)
			base, mine, theirs = append(base, line, "", ""), append(mine, line, "", ""), append(theirs, line, "", "")
			at := 3 * i
			switch random.IntN(5) {
			case 0:
				mine[at] = "mine " + line
			case 1:
				theirs[at] = "theirs " + line
			case 2:
				if random.IntN(3) == 0 {
					mine[at], theirs[at], conflict = "mine "+line, "theirs "+line, true
				}
			}
		}
		text := func(lines []string) string { return strings.Join(lines, "\n") + "\n" }
		merged, both, err := repo.Merge(t.Context(), text(base), text(mine), text(theirs), "wren")
		if err != nil || both != conflict || (source.CheckMarkers("x.py", merged) != nil) != conflict {
			t.Fatalf("%v, conflicts %v, not %v:\n%s", err, both, conflict, merged)
		}
		for i := range base {
			for _, side := range [][]string{mine, theirs} {
				if side[i] != base[i] && !strings.Contains(merged, side[i]+"\n") {
					t.Fatalf("%q is lost:\n%s", side[i], merged)
				}
			}
		}
	}
}

// A commit is missing only if git states so: a repository that git cannot read says nothing about it.
func TestMissingCommits(t *testing.T) {
	h, _, _ := host(t)
	if err := h.Create(t.Context(), "brambleford"); err != nil {
		t.Fatal(err)
	}
	repo, missing := h.Repository("brambleford"), strings.Repeat("5", 40)
	for what, read := range map[string]func() error{
		"a commit": func() error { _, err := repo.Commit(t.Context(), missing); return err },
		"a folder": func() error { _, err := repo.Folder(t.Context(), missing, "."); return err },
	} {
		if err := read(); !errors.Is(err, source.ErrNoCommit) {
			t.Errorf("%s: %v", what, err)
		}
		objects := filepath.Join(h.Dir(), "brambleford.git", "objects")
		if err := os.Rename(objects, objects+".away"); err != nil {
			t.Fatal(err)
		}
		if err := read(); err == nil || errors.Is(err, source.ErrNoCommit) {
			t.Errorf("%s in a repository without objects: %v", what, err)
		}
		if err := os.Rename(objects+".away", objects); err != nil {
			t.Fatal(err)
		}
	}
}

// A push whose body is cut off ends, and leaves no process that waits for the rest.
func TestCutOffPush(t *testing.T) {
	_, address, _ := host(t)
	c, err := net.Dial("tcp", strings.TrimPrefix(address, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	request, err := http.NewRequestWithContext(t.Context(), http.MethodPost, address+"/brambleford.git/git-receive-pack",
		strings.NewReader(strings.Repeat("a", 100_000)))
	if err != nil {
		t.Fatal(err)
	}
	request.SetBasicAuth("wren", "right")
	request.Header.Set("Content-Type", "application/x-git-receive-pack-request")
	var whole bytes.Buffer
	if err := request.Write(&whole); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Write(whole.Bytes()[:whole.Len()-90_000]); err != nil {
		t.Fatal(err)
	}
	if err := c.(*net.TCPConn).CloseWrite(); err != nil {
		t.Fatal(err)
	}
	if err := c.SetReadDeadline(time.Now().Add(time.Minute)); err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadAll(c); err != nil { // the response, or the end of the connection
		t.Errorf("the push goes on: %v", err)
	}
}
