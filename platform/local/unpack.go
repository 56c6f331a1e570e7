package local

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"time"
)

// code returns the folder with an archive's files, unpacked once.
func (p *pool) code(digest string) (string, error) {
	p.unpack.Lock()
	defer p.unpack.Unlock()
	if err := p.prepare(); err != nil {
		return "", err
	}
	dir := filepath.Join(p.root, "code", strings.TrimPrefix(digest, "sha256:"))
	if _, err := os.Stat(dir); err == nil {
		return dir, nil
	}
	entries, err := p.platform.archives.read(digest)
	if err != nil {
		return "", err
	}
	half := dir + ".half"
	if err := os.RemoveAll(half); err != nil { // left by a killed process
		return "", fmt.Errorf("unpacking an archive: %w", err)
	}
	for _, e := range entries {
		name := filepath.Join(half, filepath.FromSlash(path.Clean("/"+e.Path)))
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return "", fmt.Errorf("unpacking an archive: %w", err)
		}
		mode := os.FileMode(0o644)
		if e.Executable {
			mode = 0o755
		}
		if err := os.WriteFile(name, e.Content, mode); err != nil {
			return "", fmt.Errorf("unpacking an archive: %w", err)
		}
	}
	if err := os.MkdirAll(half, 0o755); err != nil {
		return "", fmt.Errorf("unpacking an archive: %w", err)
	}
	return dir, os.Rename(half, dir)
}

// prepare creates the folder whose parts functions see. It is in the platform's own folder; without isolation,
// and with another user, it must be where that user can read it.
func (p *pool) prepare() error {
	if p.root != "" {
		return nil
	}
	root := filepath.Join(p.platform.options.Dir, "run")
	var err error
	if p.platform.cages.Closed() {
		err = errors.Join(os.RemoveAll(root), os.Mkdir(root, 0o700))
	} else {
		if root, err = os.MkdirTemp("", runPrefix); err == nil {
			err = os.Chmod(root, 0o755)
		}
	}
	if err != nil {
		return fmt.Errorf("creating a code folder: %w", err)
	}
	if err := os.CopyFS(root, runtimeFiles); err != nil {
		return fmt.Errorf("creating a code folder: %w", err)
	}
	p.compileWorker(filepath.Join(root, "python"))
	// The folder in which Node finds imported packages, above every function's folder.
	if err := os.MkdirAll(filepath.Join(root, "code", "node_modules"), 0o755); err != nil {
		return fmt.Errorf("creating a code folder: %w", err)
	}
	if err := os.Rename(filepath.Join(root, "node", "rudmar"),
		filepath.Join(root, "code", "node_modules", "rudmar")); err != nil {
		return fmt.Errorf("creating a code folder: %w", err)
	}
	if err := p.platform.listenForFunctions(filepath.Join(root, socketName)); err != nil {
		return fmt.Errorf("listening for functions: %w", err)
	}
	p.root = root
	p.sweepOld()
	return os.WriteFile(p.rootFile(), []byte(root), 0o600)
}

// compiledWorker is Python's worker, compiled: else each cold start would compile it.
const compiledWorker = "worker.pyc"

// compileWorker compiles Python's worker and modules, with the Python that will run them. Without it, they are
// compiled at each start.
func (p *pool) compileWorker(dir string) {
	ctx, cancel := context.WithTimeout(context.Background(), startLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, p.platform.options.Python, "-I", "-S", "-c",
		"import py_compile as c, sys; c.compile('worker.py', cfile='"+compiledWorker+
			"', doraise=True); c.compile('rudmar.py', doraise=True)")
	cmd.Dir, cmd.Env, cmd.WaitDelay = dir, []string{}, time.Second
	if out, err := cmd.CombinedOutput(); err != nil {
		p.platform.options.Log.Warn("compiling the worker of Python functions", "error", err, "output", string(out))
	}
	// functions compile modules that they cannot read
	_ = filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			err = os.Chmod(name, 0o755)
		} else if err == nil {
			err = os.Chmod(name, 0o644)
		}
		return err
	})
}

// rootFile contains the path of the platform's folder of code.
func (p *pool) rootFile() string { return filepath.Join(p.platform.options.Dir, "run-folder") }

// sweepOld deletes what a killed platform left behind.
func (p *pool) sweepOld() {
	old, err := os.ReadFile(p.rootFile())
	if err == nil && strings.HasPrefix(filepath.Base(string(old)), runPrefix) &&
		filepath.Dir(string(old)) == filepath.Clean(os.TempDir()) {
		_ = os.RemoveAll(string(old)) // a remaining folder does no harm
	}
}
