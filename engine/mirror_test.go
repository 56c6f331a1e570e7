package engine_test

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/rights"
	"rudmar/engine"
	"rudmar/engine/mirror"
	"rudmar/engine/people"
	"rudmar/engine/store"
	"rudmar/outside"
)

// host is another git host: a real repository, behind a password.
type host struct {
	*testing.T
	dir, work string
	address   string
	sick      atomic.Bool
	asked     atomic.Int64
}

func newHost(t *testing.T) *host {
	t.Helper()
	h := &host{T: t, dir: t.TempDir(), work: t.TempDir()}
	git, err := exec.LookPath("git")
	must(t, err)
	backend := &cgi.Handler{Path: git, Args: []string{"http-backend"}, Dir: h.dir,
		Env: []string{"GIT_PROJECT_ROOT=" + h.dir, "GIT_HTTP_EXPORT_ALL=1"}}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		h.asked.Add(1)
		user, password, _ := q.BasicAuth()
		switch {
		case h.sick.Load():
			http.Error(w, "later", http.StatusServiceUnavailable)
		case user != "rudmar" || password != "let-me-read":
			w.Header().Set("WWW-Authenticate", "Basic")
			http.Error(w, "who is it", http.StatusUnauthorized)
		default:
			backend.ServeHTTP(w, q)
		}
	}))
	t.Cleanup(server.Close)
	h.address = server.URL + "/farm.git"
	h.git(h.dir, "init", "--quiet", "--bare", "--initial-branch=main", filepath.Join(h.dir, "farm.git"))
	h.git(h.work, "init", "--quiet", "--initial-branch=main")
	return h
}

func (h *host) git(dir string, args ...string) {
	h.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_AUTHOR_NAME=quince",
		"GIT_AUTHOR_EMAIL=q@x.invalid", "GIT_COMMITTER_NAME=quince", "GIT_COMMITTER_EMAIL=q@x.invalid")
	if out, err := cmd.CombinedOutput(); err != nil {
		h.Fatalf("git %v: %s", args, out)
	}
}

// commit commits files to a branch there.
func (h *host) commit(branch string, files map[string]string, args ...string) {
	h.Helper()
	for name, text := range files {
		to := filepath.Join(h.work, name)
		must(h, errors.Join(os.MkdirAll(filepath.Dir(to), 0o755), os.WriteFile(to, []byte(text), 0o644)))
	}
	h.git(h.work, "add", "--all")
	h.git(h.work, append([]string{"commit", "--quiet", "-m", "a change"}, args...)...)
	h.git(h.work, "push", "--quiet", "--force", filepath.Join(h.dir, "farm.git"), "HEAD:refs/heads/"+branch)
}

// A mirror follows a remote with real git: by signed notifications, with encrypted credentials, by the rules of
// a push; failures are reported and retried.
func TestMirror(t *testing.T) {
	r := newRigWith(t, func(o *engine.Options) { o.NotificationsInside = true })
	ctx := t.Context()
	r.add(people.NewUser{Username: "heron", Role: rights.Administrator})
	h := newHost(t)
	h.commit("main", first())
	for _, wrong := range []mirror.Settings{{URL: "file:///etc"}, {URL: "ssh://x/y"}, {URL: "https://u:p@x.invalid/y"}, {URL: "https:///y"},
		{URL: "https://x.invalid/y", Every: time.Second}, {URL: "https://x.invalid/y", Password: "a\r\nHost: y"}} {
		wrong.Repository = "brambleford"
		if _, err := r.Mirrors.Set(ctx, wrong, "heron"); !errors.Is(err, mirror.ErrMirror) {
			t.Errorf("%+v: %v", wrong, err)
		}
	}
	wish := mirror.Settings{Repository: "brambleford", URL: h.address, User: "rudmar", Password: "let-me-in", Every: time.Hour}
	if _, err := r.Mirrors.Set(ctx, wish, "heron"); err != nil {
		t.Fatal(err)
	}
	r.Mirrors.Now("brambleford")
	problem := func(words string) func() bool {
		return func() bool {
			m, err := r.Store.Mirror(ctx, "brambleford")
			return err == nil && strings.Contains(m.Error, words) && (words != "" || m.Error == "" && !m.Read.IsZero())
		}
	}
	r.until("the wrong password to be told", func() bool {
		m, err := r.Store.Mirror(ctx, "brambleford")
		return err == nil && m.Error != ""
	})
	if m, _ := r.Store.Mirror(ctx, "brambleford"); strings.Contains(m.Error+string(m.Sealed)+string(m.Key), "let-me-in") {
		t.Errorf("the password can be read: %s", m.Error)
	}
	wish.Password = "let-me-read"
	key, err := r.Mirrors.Set(ctx, wish, "heron")
	must(t, err)
	r.Mirrors.Now("brambleford")
	r.reaches(1, "trial", delivery.Settled)
	r.until("it to be well", problem(""))
	if v, err := r.Store.Version(ctx, "frostline", 1); err != nil || v.Person != "mirror brambleford" {
		t.Errorf("it was pushed by %q: %v", v.Person, err)
	}
	// Who approves must not have written a commit, as the remote tells; that is unknown without an email address.
	d, err := r.Store.Delivery(ctx, "frostline", 1, "live")
	must(t, err)
	for _, tt := range []struct{ email, want string }{{"", "no email address"}, {"Q@x.invalid", "wrote commits"}, {"linden@x.invalid", ""}} {
		linden := r.person("linden")
		linden.Emails = strings.Fields(tt.email)
		if err := r.Line.CanApprove(ctx, d, linden); (err == nil) != (tt.want == "") || err != nil && !strings.Contains(err.Error(), tt.want) {
			t.Errorf("an approver with the address %q: %v", tt.email, err)
		}
	}
	// A mirror ends with the account of who set it up, until somebody takes it over.
	closeAccount := func(closed bool) {
		must(t, r.People.Change(ctx, "heron", "", "user changed", func(p *store.Person) error { p.Closed = closed; return nil }))
	}
	closeAccount(true)
	r.Mirrors.Now("brambleford")
	r.until("it to stop", problem("must take it over"))
	must(t, r.Store.TakeOverMirror(ctx, "brambleford", "wren"))
	r.Mirrors.Now("brambleford")
	r.until("it to go on", problem(""))
	closeAccount(false)

	// A notification triggers a fetch at once; one with an invalid signature does nothing.
	notice := func(key string) error {
		mac := hmac.New(sha256.New, []byte(key))
		mac.Write([]byte(`{"ref":"refs/heads/main"}`))
		return r.Mirrors.WebhookReceived(ctx, "brambleford", "sha256="+hex.EncodeToString(mac.Sum(nil)), []byte(`{"ref":"refs/heads/main"}`))
	}
	h.commit("main", map[string]string{"a/main.py": "def run(call): return 'a' + ''\n"})
	asked := h.asked.Load()
	if err := notice("another key"); !errors.Is(err, mirror.ErrNotification) {
		t.Errorf("a forged notice: %v", err)
	}
	if err := r.Mirrors.WebhookReceived(ctx, "lost", "sha256=", nil); !errors.Is(err, mirror.ErrNotification) {
		t.Errorf("a notice for nothing: %v", err)
	}
	if h.asked.Load() != asked {
		t.Error("a forged notice made it look")
	}
	must(t, notice(key))
	r.reaches(2, "trial", delivery.Settled)

	// By the rules of a push: broken manifests are refused, and the branch stays.
	h.commit("main", map[string]string{"b/function.yaml": "function: b\nmemroy: 1\n"})
	r.Mirrors.Now("brambleford")
	r.until("it to be refused", problem("has 2 problems"))
	if n, err := r.Store.NewestVersion(ctx, "frostline"); err != nil || n != 2 {
		t.Errorf("it was built: %d %v", n, err)
	}
	// Rewritten history is followed, and a branch that no stage deploys from is not built.
	h.commit("main", map[string]string{"b/function.yaml": fn("b", "memory: 192 MiB\n")}, "--amend")
	h.commit("side", map[string]string{"b/main.py": "def run(call): return 'side'\n"})
	r.Mirrors.Now("brambleford")
	r.until("both to be there", func() bool {
		heads, err := r.Store.Heads(ctx, "brambleford")
		return err == nil && heads["side"] != ""
	})
	h.git(h.work, "reset", "--quiet", "--hard", "HEAD~2")
	h.commit("main", map[string]string{"a/main.py": "def run(call): return 'a' + '' + ''\n"})
	r.Mirrors.Now("brambleford")
	r.until("what was rewritten to be refused", problem("history was rewritten"))

	// A mirror rejects pushes; after the end of mirroring it accepts them.
	edit := engine.Edit{Service: "frostline", Branch: "main", Message: "beside it", Files: map[string][]byte{"a/x.py": []byte("")}}
	if _, err := r.Commit(ctx, edit, r.person("wren")); !errors.Is(err, engine.ErrMirrored) {
		t.Errorf("an edit beside it: %v", err)
	}
	wish.Folders = []string{"b"}
	_, err = r.Mirrors.Set(ctx, wish, "heron")
	must(t, err)
	h.commit("other", map[string]string{"a/main.py": "def run(call): return 'elsewhere'\n"})
	r.Mirrors.Now("brambleford")
	r.until("a change outside of its folders to be refused", problem("belongs to the service frostline"))
	h.sick.Store(true)
	r.Mirrors.Now("brambleford")
	r.until("the sick host to be told", problem("503"))
	h.sick.Store(false)
	must(t, r.Store.DeleteMirror(ctx, "brambleford", "heron"))
	if _, err := r.Commit(ctx, edit, r.person("wren")); errors.Is(err, engine.ErrMirrored) {
		t.Errorf("it is followed no more: %v", err)
	}

	// Internal addresses are refused, unless the operator allows them.
	r = newRig(t)
	if _, err := r.Mirrors.Set(ctx, mirror.Settings{Repository: "brambleford", URL: h.address}, "wren"); err != nil {
		t.Fatal(err)
	}
	asked = h.asked.Load()
	r.Mirrors.Now("brambleford")
	r.until("it to be told that it points inside", func() bool {
		m, err := r.Store.Mirror(ctx, "brambleford")
		return err == nil && strings.Contains(m.Error, outside.ErrInside.Error())
	})
	if h.asked.Load() != asked {
		t.Error("it was asked all the same")
	}
}
