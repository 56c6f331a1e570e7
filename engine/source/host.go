package source

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/cgi"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
)

// Host keeps repositories in a folder and serves them over HTTP.
type Host struct {
	dir  string
	self string // the program that git's hooks run
	// Authenticate tells who sends a request, and whether they may push.
	authenticate func(r *http.Request) (handle string, mayPush bool, err error)
	// Pushed is called after a push was taken.
	pushed func(ctx context.Context, repository, handle string)
}

// HookCommand is the argument with which the hooks call the program.
const HookCommand = "git-hook"

// NewHost opens the folder of repositories. self is the program that answers
// HookCommand; see PreReceive.
func NewHost(dir, self string, authenticate func(*http.Request) (string, bool, error), pushed func(context.Context, string, string)) (*Host, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the folder of repositories: %w", err)
	}
	dir, err := filepath.Abs(dir)
	return &Host{dir: dir, self: self, authenticate: authenticate, pushed: pushed}, err
}

// Repository gives a repository by name.
func (h *Host) Repository(name string) Repository { return At(filepath.Join(h.dir, name+".git")) }

// Create makes an empty repository, if there is none of that name.
func (h *Host) Create(ctx context.Context, name string) error {
	r := h.Repository(name)
	if _, err := os.Stat(filepath.Join(r.dir, "HEAD")); err == nil {
		return h.hook(r)
	}
	cmd := exec.CommandContext(ctx, "git", "init", "--quiet", "--bare", "--initial-branch=main", "--template=", r.dir)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("making the repository %s: %w: %s", name, err, out)
	}
	for _, setting := range [][2]string{{"http.receivepack", "true"}, {"receive.denyNonFastForwards", "true"}, {"transfer.fsckObjects", "true"}, {"core.logAllRefUpdates", "true"}, {"gc.auto", "2000"}} {
		if _, err := r.git(ctx, nil, nil, "config", setting[0], setting[1]); err != nil {
			return err
		}
	}
	return h.hook(r)
}

func (h *Host) hook(r Repository) error {
	dir := filepath.Join(r.dir, "hooks")
	script := "#!/bin/sh\nexec '" + strings.ReplaceAll(h.self, "'", `'\''`) + "' " + HookCommand + " pre-receive\n"
	return errors.Join(os.MkdirAll(dir, 0o700), os.WriteFile(filepath.Join(dir, "pre-receive"), []byte(script), 0o700))
}

// ServeHTTP answers git's smart protocol at /NAME.git/….
func (h *Host) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	match := regexp.MustCompile(`^/([a-z][a-z0-9-]*)\.git/(info/refs|git-upload-pack|git-receive-pack)$`).FindStringSubmatch(r.URL.Path)
	if match == nil {
		http.Error(w, "there is no repository here; its address ends in .git", http.StatusNotFound)
		return
	}
	handle, mayPush, err := h.authenticate(r)
	if err != nil {
		w.Header().Set("WWW-Authenticate", `Basic realm="Rudmar"`)
		http.Error(w, err.Error(), http.StatusUnauthorized)
		return
	}
	pushing := match[2] == "git-receive-pack" || r.URL.Query().Get("service") == "git-receive-pack"
	if pushing && !mayPush {
		http.Error(w, handle+" may read this repository but not push to it; ask an author", http.StatusForbidden)
		return
	}
	if _, err := os.Stat(filepath.Join(h.dir, match[1]+".git")); err != nil {
		http.Error(w, "there is no repository "+match[1], http.StatusNotFound)
		return
	}
	backend, err := exec.LookPath("git")
	if err != nil {
		http.Error(w, "git is not installed on the server", http.StatusInternalServerError)
		return
	}
	request := r.Clone(r.Context())
	if len(r.TransferEncoding) > 0 { // net/http/cgi refuses chunked bodies, which git sends above 1 MiB
		request.TransferEncoding, request.ContentLength = nil, -1
	}
	// What is pushed is inflated by git: it gets so much memory (KiB) and time (s) for it.
	const limited = `ulimit -v 4000000; ulimit -t 300; exec "$0" http-backend`
	handler := cgi.Handler{Path: "/bin/sh", Args: []string{"-c", limited, backend}, Dir: h.dir,
		Env: append([]string{"GIT_PROJECT_ROOT=" + h.dir, "GIT_HTTP_EXPORT_ALL=1", "REMOTE_USER=" + handle, "GIT_CONFIG_NOSYSTEM=1", "HOME=" + h.dir}, receiving()...)}
	handler.ServeHTTP(w, request)
	if match[2] == "git-receive-pack" {
		h.pushed(context.WithoutCancel(r.Context()), match[1], handle)
	}
}
