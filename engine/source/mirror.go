package source

import (
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// MirrorOf is a repository on another machine.
type MirrorOf struct {
	URL            string // http or https
	Host           string // its host name
	Port           int
	At             netip.Addr // its checked address: git resolves no name by itself
	User, Password string
	Most           int64 // bytes of a fetch; 0 for those of a push
}

// mirrored is the prefix of fetched references until they are accepted.
const mirrored = "refs/mirror/"

// FetchFrom fetches the branches of a remote repository, and returns their commits. It accepts none of them.
func (r Repository) FetchFrom(ctx context.Context, e MirrorOf) (map[string]string, error) {
	at := e.At.String()
	if e.At.Is6() {
		at = "[" + at + "]"
	}
	settings := [][2]string{
		{"protocol.allow", "never"}, {"protocol.http.allow", "always"}, {"protocol.https.allow", "always"},
		{"http.followRedirects", "false"}, {"credential.helper", ""}, {"fetch.fsckObjects", "true"}, {"gc.auto", "0"},
		{"http.curloptResolve", e.Host + ":" + strconv.Itoa(e.Port) + ":" + at},
		{"http.lowSpeedLimit", "1000"}, {"http.lowSpeedTime", "20"},
	}
	if e.User+e.Password != "" {
		settings = append(settings, [2]string{"http.extraHeader",
			"Authorization: Basic " + base64.StdEncoding.EncodeToString([]byte(e.User+":"+e.Password))})
	}
	env := append(configured(settings), "GIT_TERMINAL_PROMPT=0", "GIT_ASKPASS=/bin/false")
	if err := r.fetch(ctx, cmp.Or(e.Most, maxPack), env, "fetch", "--quiet", "--no-tags", "--prune", "--no-write-fetch-head", "--no-auto-maintenance",
		"--end-of-options", e.URL, "+refs/heads/*:"+mirrored+"*"); err != nil {
		return nil, err
	}
	out, err := r.git(ctx, nil, nil, "for-each-ref", "--format=%(objectname) %(refname)", mirrored)
	if err != nil {
		return nil, err
	}
	heads := map[string]string{}
	for line := range strings.Lines(string(out)) {
		hash, ref, ok := strings.Cut(strings.TrimSpace(line), " ")
		if branch, own := strings.CutPrefix(ref, mirrored); ok && own {
			heads[branch] = hash
		}
	}
	return heads, nil
}

// fileBlock is the unit of the shell's limit of a file's size, in bytes.
const fileBlock = 512

// fetch runs a fetch that can write files of a size: git itself limits only what it receives by a push.
func (r Repository) fetch(ctx context.Context, most int64, env []string, args ...string) error {
	cmd := r.command(ctx, args...)
	cmd.Args = append([]string{"sh", "-c", fmt.Sprintf(`ulimit -f %d; exec "$0" "$@"`, most/fileBlock), cmd.Path}, cmd.Args[1:]...)
	cmd.Path = "/bin/sh"
	cmd.Env = append(cmd.Env, env...)
	var problems bytes.Buffer
	cmd.Stderr = &problems
	err := cmd.Run()
	if err == nil {
		return nil
	}
	partial, globErr := filepath.Glob(filepath.Join(r.dir, "objects", "pack", "tmp_*"))
	for _, file := range partial { // of this fetch: nobody pushes to a mirror
		if info, statErr := os.Stat(file); statErr == nil && info.Size() >= most/fileBlock*fileBlock {
			err = fmt.Errorf("%w: the fetch has more than %d MiB", ErrTooMuch, most>>20)
		}
		globErr = errors.Join(globErr, os.Remove(file))
	}
	return errors.Join(fmt.Errorf("git fetch: %w: %s", err, r.withoutPaths(problems.String())), globErr)
}

// Accept moves a branch to a fetched commit, by the rules of a push, in somebody's name. A rejection wraps
// ErrDenied, with the reason.
func (h Hook) Accept(ctx context.Context, r Repository, branch, to, person string) error {
	heads, err := r.Heads(ctx)
	if err != nil {
		return err
	}
	from := heads[branch]
	if from == to {
		return nil
	}
	if from == "" {
		from = zero
	}
	r.held = []string{"--branches", "--tags"} // references under refs/mirror are not accepted yet
	var said bytes.Buffer
	ok, err := h.canUpdate(ctx, r, branch, from, to, &said)
	if err == nil && ok && from != zero {
		ok, err = r.follows(ctx, h, branch, from, to, &said)
	}
	switch {
	case errors.Is(err, ErrTooMuch):
		return fmt.Errorf("%w: %s: %w", ErrDenied, branch, err)
	case err != nil:
		return err
	case !ok:
		return fmt.Errorf("%w: %s: %s", ErrDenied, branch, strings.Join(strings.Fields(said.String()), " "))
	}
	env := []string{"GIT_COMMITTER_NAME=" + person, "GIT_COMMITTER_EMAIL=" + person + "@rudmar.invalid"}
	_, err = r.git(ctx, env, nil, "update-ref", "-m", "push", "--create-reflog", "refs/heads/"+branch, to, from)
	return err
}

// follows reports whether a commit is a descendant of the branch's head; a branch that no stage deploys from
// can move anywhere.
func (r Repository) follows(ctx context.Context, h Hook, branch, from, to string,
	said io.Writer) (bool, error) {
	if _, err := r.git(ctx, nil, nil, "merge-base", "--is-ancestor", from, to); err == nil {
		return true, nil
	}
	before, err := r.checkAll(ctx, h.Offers, from)
	if err != nil {
		return false, err
	}
	main, err := r.Main(ctx)
	if err != nil || branch != main && !deploysFrom(before, branch) {
		return err == nil, err
	}
	fmt.Fprintf(said, "its history was rewritten, and a stage deploys it; restore %.8s first", from)
	return false, nil
}
