// Package source hosts git repositories and reads the content of commits. It runs the git program.
package source

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
)

// Errors of repositories.
var (
	ErrNoCommit = errors.New("no such commit")
	ErrConflict = errors.New("the branch has moved since then")
)

// zero is git's name for nothing.
const zero = "0000000000000000000000000000000000000000"

// Repository is a bare repository on the disk.
type Repository struct {
	dir string
	// held is the base against which a push is measured; all references by default.
	held []string
}

// At returns the repository in a folder.
func At(dir string) Repository { return Repository{dir: dir} }

// git runs git in the repository and returns its output.
func (r Repository) git(ctx context.Context, env []string, stdin io.Reader, args ...string) ([]byte, error) {
	cmd := r.command(ctx, args...)
	cmd.Env = append(cmd.Env, env...)
	cmd.Stdin = stdin
	var out, problems bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &problems
	if err := cmd.Run(); err != nil {
		return nil, fmt.Errorf("git %s: %w: %s", args[0], err, r.withoutPaths(problems.String()))
	}
	return out.Bytes(), nil
}

// withoutPaths removes the repository's path from git's output.
func (r Repository) withoutPaths(said string) string {
	whole, err := filepath.Abs(r.dir)
	if err != nil {
		whole = r.dir
	}
	for _, dir := range []string{whole, r.dir, filepath.Dir(whole)} {
		if len(dir) > 1 { // "." and "/" do not locate an error
			said = strings.ReplaceAll(said, dir, "(repository)")
		}
	}
	return strings.TrimSpace(said)
}

// gitQuiet makes git independent of the machine's configuration, and of replaced objects (refs/replace).
func gitQuiet() []string {
	return []string{"GIT_CONFIG_NOSYSTEM=1", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_NO_REPLACE_OBJECTS=1", "LC_ALL=C"}
}

// Heads returns the commit of each branch.
func (r Repository) Heads(ctx context.Context) (map[string]string, error) {
	out, err := r.git(ctx, nil, nil, "for-each-ref", "--format=%(objectname) %(refname:lstrip=2)", "refs/heads")
	if err != nil {
		return nil, err
	}
	heads := map[string]string{}
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		if hash, branch, ok := strings.Cut(line, " "); ok {
			heads[branch] = hash
		}
	}
	return heads, nil
}

// Main returns the branch that HEAD names.
func (r Repository) Main(ctx context.Context) (string, error) {
	if head, err := os.ReadFile(filepath.Join(r.dir, "HEAD")); err == nil { // as in gitrepository-layout(5)
		if branch, ok := strings.CutPrefix(strings.TrimSpace(string(head)), "ref: refs/heads/"); ok {
			return branch, nil
		}
	}
	out, err := r.git(ctx, nil, nil, "symbolic-ref", "--short", "HEAD")
	return strings.TrimSpace(string(out)), err
}

// Commit is a commit's metadata.
type Commit struct {
	Hash, Parent string
	Author       string // the name part of the author
	Email        string
	Message      string // its first line
	At           time.Time
}

// Commit returns a commit by any name that git understands.
func (r Repository) Commit(ctx context.Context, name string) (Commit, error) {
	list, err := r.History(ctx, name, "", 1)
	switch {
	case err != nil:
		return Commit{}, r.missing(ctx, name, err)
	case len(list) == 0:
		return Commit{}, fmt.Errorf("%w: %s", ErrNoCommit, name)
	}
	return list[0], nil
}

// missing returns ErrNoCommit if git states that there is no commit of a name, and otherwise the error of reading it,
// such as that git was too slow, or could not read its files.
func (r Repository) missing(ctx context.Context, name string, err error) error {
	_, stated := r.git(ctx, nil, nil, "rev-parse", "--verify", "--quiet", "--end-of-options", name+"^{commit}")
	var exit *exec.ExitError
	if errors.As(stated, &exit) && exit.ExitCode() == 1 { // 128 for faults
		return fmt.Errorf("%w: %s", ErrNoCommit, name)
	}
	return err
}

// History returns the newest commits of a branch, newest first; only those that touch a path, if one is given.
func (r Repository) History(ctx context.Context, name, path string, limit int) ([]Commit, error) {
	args := []string{"log", "-z", "-n", strconv.Itoa(limit), "--format=%H%x1f%P%x1f%an%x1f%ae%x1f%ct%x1f%s",
		"--end-of-options", name, "--"}
	if path != "" {
		args = append(args, path)
	}
	out, err := r.git(ctx, nil, nil, args...)
	if err != nil {
		return nil, err
	}
	var list []Commit
	for _, record := range strings.Split(strings.Trim(string(out), "\x00"), "\x00") {
		f := strings.Split(record, "\x1f")
		if len(f) != 6 {
			continue
		}
		at, _ := strconv.ParseInt(f[4], 10, 64)
		parent, _, _ := strings.Cut(f[1], " ")
		list = append(list, Commit{Hash: f[0], Parent: parent, Author: f[2], Email: f[3],
			At: time.Unix(at, 0), Message: f[5]})
	}
	return list, nil
}

// File is a file of a commit.
type File struct {
	Path       string
	Blob       string
	Size       int64
	Executable bool
}

// Folder is a folder of a commit. It is a manifest.Folder.
type Folder struct {
	ctx     context.Context
	repo    Repository
	files   []File // sorted by path, relative to the folder
	byPath  map[string]int
	content map[string][]byte // blob → bytes, of files that were read
}

// Folder lists a folder of a commit; "." is the whole. Symbolic links and submodules are left out. Reading
// continues under the context.
func (r Repository) Folder(ctx context.Context, commit, dir string) (*Folder, error) {
	args := []string{"ls-tree", "-r", "-l", "-z", "--end-of-options", commit}
	prefix := ""
	if dir != "." && dir != "" {
		prefix = dir + "/"
		args = append(args, prefix)
	}
	out, err := r.git(ctx, nil, nil, args...)
	if err != nil {
		return nil, r.missing(ctx, commit, err)
	}
	f := &Folder{ctx: ctx, repo: r, byPath: map[string]int{}, content: map[string][]byte{}}
	for _, record := range bytes.Split(out, []byte{0}) {
		head, name, ok := bytes.Cut(record, []byte{'\t'})
		fields := strings.Fields(string(head))
		if !ok || len(fields) != 4 || fields[1] != "blob" || fields[0] == "120000" {
			continue
		}
		size, _ := strconv.ParseInt(fields[3], 10, 64)
		f.files = append(f.files, File{Path: strings.TrimPrefix(string(name), prefix), Blob: fields[2], Size: size,
			Executable: fields[0] == "100755"})
	}
	sort.Slice(f.files, func(i, j int) bool { return f.files[i].Path < f.files[j].Path })
	for i, file := range f.files {
		f.byPath[file.Path] = i
	}
	return f, nil
}

// Files lists the paths, sorted.
func (f *Folder) Files() []string {
	out := make([]string, len(f.files))
	for i, file := range f.files {
		out[i] = file.Path
	}
	return out
}

// Listed returns the files with their blobs and sizes.
func (f *Folder) Listed() []File { return f.files }

// Read returns the content of a file.
func (f *Folder) Read(name string) ([]byte, error) {
	i, ok := f.byPath[name]
	if !ok {
		return nil, fmt.Errorf("reading %s: %w", name, os.ErrNotExist)
	}
	if content, ok := f.content[f.files[i].Blob]; ok {
		return content, nil
	}
	content, err := f.repo.git(f.ctx, nil, nil, "cat-file", "blob", f.files[i].Blob)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	return content, nil
}

// Stamp returns the blob of a file, or "" if there is none.
func (f *Folder) Stamp(name string) string {
	if i, ok := f.byPath[name]; ok {
		return f.files[i].Blob
	}
	return ""
}

// loadable is the size of files, in bytes, that Load leaves to Read.
const loadable = 4 << 20

// Load reads files in one request, so Read of them needs no git. It must not run concurrently with Read.
func (f *Folder) Load(names []string) error {
	var blobs []string
	asked := map[string]bool{}
	for _, name := range names {
		i, ok := f.byPath[name]
		if !ok || f.files[i].Size > loadable || asked[f.files[i].Blob] {
			continue
		}
		if _, have := f.content[f.files[i].Blob]; !have {
			asked[f.files[i].Blob] = true
			blobs = append(blobs, f.files[i].Blob)
		}
	}
	if len(blobs) == 0 {
		return nil
	}
	out, err := f.repo.git(f.ctx, nil, strings.NewReader(strings.Join(blobs, "\n")+"\n"), "cat-file", "--batch")
	if err != nil {
		return err
	}
	reader := bufio.NewReader(bytes.NewReader(out))
	for range blobs {
		head, err := reader.ReadString('\n')
		fields := strings.Fields(head)
		if err != nil || len(fields) != 3 {
			return fmt.Errorf("reading files from git: unexpected %q", head)
		}
		size, err := strconv.Atoi(fields[2])
		if err != nil {
			return fmt.Errorf("reading files from git: %w", err)
		}
		content := make([]byte, size)
		if _, err := io.ReadFull(reader, content); err != nil {
			return fmt.Errorf("reading files from git: %w", err)
		}
		if _, err := reader.Discard(1); err != nil {
			return fmt.Errorf("reading files from git: %w", err)
		}
		f.content[fields[0]] = content
	}
	return nil
}

// entries returns those of some paths that a commit has.
func (r Repository) entries(ctx context.Context, commit string, paths []string) (map[string]File, error) {
	out := map[string]File{}
	if commit == "" {
		return out, nil
	}
	for some := range slices.Chunk(paths, 200) {
		text, err := r.git(ctx, nil, nil, append([]string{"--literal-pathspecs", "ls-tree", "-z", commit, "--"}, some...)...)
		if err != nil {
			return nil, err
		}
		for line := range strings.SplitSeq(strings.TrimSuffix(string(text), "\x00"), "\x00") {
			about, name, ok := strings.Cut(line, "\t")
			if fields := strings.Fields(about); ok && len(fields) == 3 {
				out[name] = File{Path: name, Blob: fields[2], Executable: fields[0] == "100755"}
			}
		}
	}
	return out, nil
}

// Change is an edit to be committed. Paths are relative to the repository; nil
// content deletes a file.
type Change struct {
	Branch, Base  string
	New           bool // the commit creates the branch
	Message       string
	Author, Email string
	Files         map[string][]byte
}

// Apply commits a change on top of its base. If the branch has moved since, nothing is changed and the error is
// ErrConflict.
func (r Repository) Apply(ctx context.Context, c Change) (string, error) {
	index, err := os.CreateTemp(r.dir, "index-")
	if err != nil {
		return "", fmt.Errorf("committing: %w", err)
	}
	index.Close()
	os.Remove(index.Name()) // git insists on creating it
	defer os.Remove(index.Name())
	env := []string{"GIT_INDEX_FILE=" + index.Name(), "GIT_AUTHOR_NAME=" + c.Author, "GIT_AUTHOR_EMAIL=" + c.Email,
		"GIT_COMMITTER_NAME=" + c.Author, "GIT_COMMITTER_EMAIL=" + c.Email}
	if c.Base != "" {
		if _, err := r.git(ctx, env, nil, "read-tree", c.Base); err != nil {
			return "", fmt.Errorf("committing: %w", err)
		}
	}
	before, err := r.entries(ctx, c.Base, slices.Sorted(maps.Keys(c.Files)))
	if err != nil {
		return "", fmt.Errorf("committing: %w", err)
	}
	executable := map[string]bool{} // by the blobs of deleted executable files
	for name, e := range before {
		if c.Files[name] == nil && e.Executable {
			executable[e.Blob] = true
		}
	}
	var lines strings.Builder
	for name, content := range c.Files {
		if name != path.Clean(name) || strings.HasPrefix(name, "../") || path.IsAbs(name) ||
			strings.ContainsAny(name, "\n\x00") {
			return "", fmt.Errorf("committing: %q is not a path inside the repository", name)
		}
		if content == nil {
			fmt.Fprintf(&lines, "0 %s\t%s\n", zero, name)
			continue
		}
		blob, err := r.git(ctx, env, bytes.NewReader(content), "hash-object", "-w", "--stdin")
		if err != nil {
			return "", fmt.Errorf("committing: %w", err)
		}
		mode, hash := "100644", strings.TrimSpace(string(blob))
		if e, there := before[name]; e.Executable || !there && executable[hash] { // edited, or moved unchanged
			mode = "100755"
		}
		fmt.Fprintf(&lines, "%s %s\t%s\n", mode, hash, name)
	}
	if _, err := r.git(ctx, env, strings.NewReader(lines.String()), "update-index", "--index-info"); err != nil {
		return "", fmt.Errorf("committing: %w", err)
	}
	tree, err := r.git(ctx, env, nil, "write-tree")
	if err != nil {
		return "", fmt.Errorf("committing: %w", err)
	}
	args := []string{"commit-tree", strings.TrimSpace(string(tree)), "-m", c.Message}
	if c.Base != "" {
		args = append(args, "-p", c.Base)
	}
	out, err := r.git(ctx, env, nil, args...)
	if err != nil {
		return "", fmt.Errorf("committing: %w", err)
	}
	hash, old := strings.TrimSpace(string(out)), c.Base
	if old == "" || c.New {
		old = zero
	}
	if _, err := r.git(ctx, env, nil, "update-ref", "-m", "commit: in the page", "refs/heads/"+c.Branch,
		hash, old); err != nil {
		return "", fmt.Errorf("%w: %w", ErrConflict, err)
	}
	return hash, nil
}
