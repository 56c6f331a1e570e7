package source

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cgi"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Visitor is the user of a git request, as signed in.
type Visitor struct {
	Username string
	// MayRead returns why they cannot read a repository; nil if they can.
	MayRead func(repository string) error
	// MayPush returns what they can change in a repository, and why they cannot push to it.
	MayPush func(repository string) (Writes, error)
}

// Host manages repositories in a folder and serves them over HTTP.
type Host struct {
	dir   string
	hooks string // the hooks folder of all repositories, which pushes cannot change
	self  string // the program that git's hooks run
	// Authenticate returns who sends a request, and whether they can push.
	authenticate func(r *http.Request) (Visitor, error)
	// Pushed is called after a push was accepted.
	pushed func(ctx context.Context, repository, username string)
	// forHooks is the environment of hooks.
	forHooks []string

	making sync.Mutex // held while a repository is created
}

// WritesVariable tells a hook what the pusher can change, as the JSON of [Writes].
const WritesVariable = "RUDMAR_HOOK_WRITES"

// RepositoryVariable tells a hook the name of its repository.
const RepositoryVariable = "RUDMAR_HOOK_REPOSITORY"

// TellHooks passes a further variable to hooks.
func (h *Host) TellHooks(name, value string) { h.forHooks = append(h.forHooks, name+"="+value) }

// HookCommand is the argument with which the hooks call the program.
const HookCommand = "git-hook"

// NewHost opens the folder of repositories, a whole path. self is the program that answers
// HookCommand; see PreReceive.
func NewHost(dir, self string, authenticate func(*http.Request) (Visitor, error),
	pushed func(context.Context, string, string)) (*Host, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("creating the repositories folder: %w", err)
	}
	h := &Host{dir: dir, hooks: dir + ".hooks", self: self, authenticate: authenticate, pushed: pushed}
	// Only this process uses the folder of pushes in progress: what is there was left by a killed one.
	if err := errors.Join(os.RemoveAll(h.pushes()), os.Mkdir(h.pushes(), 0o700)); err != nil {
		return nil, fmt.Errorf("creating the folder of pushes: %w", err)
	}
	return h, h.writeHooks()
}

// Dir returns the folder of the repositories.
func (h *Host) Dir() string { return h.dir }

// Repository returns a repository by name.
func (h *Host) Repository(name string) Repository { return At(filepath.Join(h.dir, name+".git")) }

// Create creates an empty repository, if there is none of that name.
func (h *Host) Create(ctx context.Context, name string) error {
	r := h.Repository(name)
	if _, err := os.Stat(filepath.Join(r.dir, "HEAD")); err == nil {
		return nil
	}
	h.making.Lock()
	defer h.making.Unlock()
	if _, err := os.Stat(filepath.Join(r.dir, "HEAD")); err == nil {
		return nil
	}
	// It is created under another name, so it exists completely or not at all.
	whole, made := r.dir, Repository{dir: r.dir + ".new"}
	if err := os.RemoveAll(made.dir); err != nil {
		return fmt.Errorf("creating the repository %s: %w", name, err)
	}
	r = made
	cmd := exec.CommandContext(ctx, "git", "init", "--quiet", "--bare", "--initial-branch=main", "--template=", r.dir)
	cmd.Env = append(os.Environ(), gitQuiet()...)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("creating the repository %s: %w: %s", name, err, r.withoutPaths(string(out)))
	}
	for _, setting := range [][2]string{{"http.receivepack", "true"}, {"receive.denyNonFastForwards", "true"},
		{"transfer.fsckObjects", "true"}, {"core.logAllRefUpdates", "true"}, {"gc.auto", "2000"}, {"core.fsync", synced}} {
		if _, err := r.git(ctx, nil, nil, "config", setting[0], setting[1]); err != nil {
			return err
		}
	}
	if err := os.Rename(made.dir, whole); err != nil {
		return fmt.Errorf("creating the repository %s: %w", name, err)
	}
	return nil
}

// Remove deletes a repository, with its content.
func (h *Host) Remove(name string) error {
	if err := os.RemoveAll(h.Repository(name).dir); err != nil {
		return fmt.Errorf("deleting the repository %s: %w", name, err)
	}
	return nil
}

// writeHooks writes the one folder of hooks: hooks in a repository are never executed.
func (h *Host) writeHooks() error {
	script := func(hook string) string {
		return "#!/bin/sh\nexec '" + strings.ReplaceAll(h.self, "'", `'\''`) + "' " + HookCommand + " " + hook + "\n"
	}
	entries, err := os.ReadDir(h.hooks)
	same := err == nil && len(entries) == len(hooks())
	for _, hook := range hooks() {
		text, readErr := os.ReadFile(filepath.Join(h.hooks, hook))
		same = same && readErr == nil && string(text) == script(hook)
	}
	if same {
		return nil
	}
	_ = os.Chmod(h.hooks, 0o700) // if it exists
	err = errors.Join(os.RemoveAll(h.hooks), os.MkdirAll(h.hooks, 0o700))
	for _, hook := range hooks() {
		err = errors.Join(err, os.WriteFile(filepath.Join(h.hooks, hook), []byte(script(hook)), 0o500))
	}
	if err = errors.Join(err, os.Chmod(h.hooks, 0o500)); err != nil {
		return fmt.Errorf("writing git's hooks: %w", err)
	}
	return nil
}

// The hooks that git runs before and after it accepts a push.
const (
	PreReceive  = "pre-receive"
	PostReceive = "post-receive"
)

func hooks() []string { return []string{PreReceive, PostReceive} }

// TakenVariable names a file that the hook after a push creates, so the server records the push while git still
// prints its response.
const TakenVariable = "RUDMAR_HOOK_TAKEN"

// takenEvery is the interval of checks for that file.
const takenEvery = 20 * time.Millisecond

// pushes is the folder of the files of pushes in progress.
func (h *Host) pushes() string { return h.dir + ".pushes" }

// notePush calls noted once: when the hook reports that a push was accepted, or when over is called.
func (h *Host) notePush(noted func()) (file string, over func()) {
	dir, err := os.MkdirTemp(h.pushes(), "push-")
	var once sync.Once
	ended := make(chan struct{})
	if err == nil {
		file = filepath.Join(dir, "taken")
		go func() {
			tick := time.NewTicker(takenEvery)
			defer tick.Stop()
			for {
				select {
				case <-ended:
					return
				case <-tick.C:
					if _, err := os.Stat(file); err == nil {
						once.Do(noted)
						return
					}
				}
			}
		}()
	}
	return file, func() {
		close(ended)
		once.Do(noted)
		if dir != "" {
			_ = os.RemoveAll(dir) // an empty folder does no harm
		}
	}
}

// ServeHTTP answers git's smart protocol at /NAME.git/….
func (h *Host) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	match := regexp.MustCompile(
		`^/([a-z][a-z0-9-]*)\.git/(info/refs|git-upload-pack|git-receive-pack)$`).FindStringSubmatch(r.URL.Path)
	if match == nil {
		http.Error(w, "no repository at this address; it must end in .git", http.StatusNotFound)
		return
	}
	visitor, err := h.authenticate(r)
	var slow interface{ RetryAfter() int }
	if errors.As(err, &slow) {
		w.Header().Set("Retry-After", strconv.Itoa(slow.RetryAfter()))
		http.Error(w, err.Error(), http.StatusTooManyRequests)
		return
	}
	if err != nil {
		w.Header().Set("WWW-Authenticate", `Basic realm="Rudmar"`)
		http.Error(w, err.Error(), http.StatusUnauthorized)
		return
	}
	if err := visitor.MayRead(match[1]); err != nil {
		http.Error(w, err.Error(), http.StatusForbidden)
		return
	}
	pushing := match[2] == "git-receive-pack" || r.URL.Query().Get("service") == "git-receive-pack"
	var writes Writes
	if pushing {
		if writes, err = visitor.MayPush(match[1]); err != nil {
			http.Error(w, visitor.Username+" can read this repository but not push to it: "+err.Error(), http.StatusForbidden)
			return
		}
	}
	username := visitor.Username
	if _, err := os.Stat(filepath.Join(h.dir, match[1]+".git")); err != nil {
		http.Error(w, "unknown repository "+match[1], http.StatusNotFound)
		return
	}
	backend, err := exec.LookPath("git")
	if err != nil {
		http.Error(w, "git is not installed on the server", http.StatusInternalServerError)
		return
	}
	if err := h.writeHooks(); err != nil {
		http.Error(w, "the server cannot check what is pushed", http.StatusInternalServerError)
		return
	}
	request := r.Clone(r.Context())
	if r.ContentLength != 0 {
		// net/http/cgi refuses chunked bodies, which git sends above 1 MiB, and git waits in a loop for the rest of a body
		// of a known length that is cut off.
		request.TransferEncoding, request.ContentLength = nil, -1
	}
	// git inflates a push: this limits its memory (KiB) and time (s).
	const limited = `ulimit -v 4000000; ulimit -t 300; exec "$0" http-backend`
	env := []string{"GIT_PROJECT_ROOT=" + h.dir, "GIT_HTTP_EXPORT_ALL=1", "REMOTE_USER=" + username, "HOME=" + h.dir,
		"GIT_COMMITTER_NAME=" + username, "GIT_COMMITTER_EMAIL=" + username + "@rudmar.invalid",
		RepositoryVariable + "=" + match[1]}
	rights, err := json.Marshal(writes)
	if err != nil {
		http.Error(w, "the server cannot check what is pushed", http.StatusInternalServerError)
		return
	}
	env = append(env, WritesVariable+"="+string(rights))
	env = slices.Concat(env, gitQuiet(), h.forHooks, receiving([2]string{"core.hooksPath", h.hooks}))
	over := func() {}
	if match[2] == "git-receive-pack" {
		var taken string
		taken, over = h.notePush(func() { h.pushed(context.WithoutCancel(r.Context()), match[1], username) })
		env = append(env, TakenVariable+"="+taken)
	}
	handler := cgi.Handler{Path: "/bin/sh", Args: []string{"-c", limited, backend}, Dir: h.dir,
		Env: env, Stderr: io.Discard}
	hidden := &hiding{ResponseWriter: w, secret: []byte(h.dir)}
	if !pushing { // the response is compressed, and long
		hidden.secret = nil
	}
	handler.ServeHTTP(hidden, request)
	hidden.rest()
	over()
}
