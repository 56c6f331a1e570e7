package build

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"rudmar/core/manifest"
	"rudmar/core/pack"
	"rudmar/starter"
)

// Limits of the commands that make one function.
const (
	maxMaking = 10 * time.Minute
	maxOutput = 1 << 20 // bytes of output that are kept
)

// ErrCommand tells that a command of a build did not do its work.
var ErrCommand = errors.New("the command failed")

// making is how a function's archive is made from its sources.
type making struct {
	commands [][]string
	adds     map[string]string // files that are put there where they are missing
	writes   map[string]string // files that are put there in any case
	only     string            // the one file that goes into the archive; "" for all
	env      []string
	// locked tells what the sources leave open that has to be settled; nil where nothing has to.
	locked func([]pack.Entry) error
}

// howToMake gives what turns a function's sources into what its archive holds:
// its own commands, or what its runtime does by default. Nothing at all for
// sources that run as they are.
func howToMake(fn *manifest.Function, has func(name string) bool) (making, error) {
	config := fn.At("")
	var m making
	for _, line := range config.Build.Run {
		m.commands = append(m.commands, []string{"/bin/sh", "-ec", line})
	}
	own := len(m.commands) > 0
	switch config.Runtime.V {
	case "python":
		if !own && has(requirementsFile) {
			m.commands = [][]string{{"/usr/bin/python3", "-m", "pip", "install", "--quiet", "--no-compile", "--no-input", "--disable-pip-version-check", "--target", ".", "--requirement", requirementsFile}}
			m.locked = unpinned
		}
	case "node":
		if !own && has("package-lock.json") {
			m.commands = [][]string{{"npm", "ci", "--omit=dev", "--ignore-scripts", "--no-audit", "--no-fund"}}
		}
	case "go":
		_, handler, _ := strings.Cut(config.Handler.V, ":")
		files, err := starter.GoFiles()
		if err != nil {
			return m, err
		}
		worker, err := starter.GoWorker(handler)
		if err != nil {
			return m, err
		}
		m.adds, m.writes, m.only = files, map[string]string{"rudmar_worker_wasip1.go": worker}, "main.wasm"
		m.env = []string{"GOOS=wasip1", "GOARCH=wasm", "GOFLAGS=-mod=readonly", "GOTOOLCHAIN=local"}
		m.commands = append(m.commands, []string{"go", "build", "-buildmode=c-shared", "-trimpath", "-buildvcs=false", "-ldflags=-s -w -buildid=", "-o", "main.wasm", "."})
	}
	return m, nil
}

// nothing tells whether the sources go into the archive as they are.
func (m making) nothing() bool { return len(m.commands) == 0 }

// String names all that takes part, so that a change of it makes a new archive.
func (m making) String() string {
	out := fmt.Sprint(m.commands, m.env, m.only)
	for _, files := range []map[string]string{m.adds, m.writes} {
		for _, name := range slices.Sorted(maps.Keys(files)) {
			out += "\x00" + name + "\x00" + files[name]
		}
	}
	return out
}

// make makes a function in a clean folder, and gives the files of its archive.
func (m making) make(ctx context.Context, entries []pack.Entry, leaveOut []string, log io.Writer) ([]pack.Entry, error) {
	if m.locked != nil {
		if err := m.locked(entries); err != nil {
			return nil, err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, maxMaking)
	defer cancel()
	root, err := os.MkdirTemp("", "rudmar-build-")
	if err != nil {
		return nil, fmt.Errorf("making a clean folder: %w", err)
	}
	defer os.RemoveAll(root)
	dir, home := filepath.Join(root, "code"), filepath.Join(root, "home")
	if err := errors.Join(os.Mkdir(dir, 0o755), os.Mkdir(home, 0o755)); err != nil {
		return nil, err
	}
	for _, e := range entries {
		mode := os.FileMode(0o644)
		if e.Executable {
			mode = 0o755
		}
		if err := put(dir, e.Path, e.Content, mode); err != nil {
			return nil, err
		}
	}
	for name, text := range m.adds {
		if _, err := os.Stat(filepath.Join(dir, name)); errors.Is(err, fs.ErrNotExist) {
			if err := put(dir, name, []byte(text), 0o644); err != nil {
				return nil, err
			}
		}
	}
	for name, text := range m.writes {
		if err := put(dir, name, []byte(text), 0o644); err != nil {
			return nil, err
		}
	}
	for _, command := range m.commands {
		fmt.Fprintf(log, "  $ %s\n", strings.Join(command, " "))
		if err := m.run(ctx, dir, home, command, log); err != nil {
			return nil, err
		}
	}
	return collect(dir, m.only, leaveOut)
}

func put(dir, name string, content []byte, mode os.FileMode) error {
	full := filepath.Join(dir, filepath.FromSlash(path.Clean("/"+name)))
	return errors.Join(os.MkdirAll(filepath.Dir(full), 0o755), os.WriteFile(full, content, mode))
}

// run runs one command. It ends with all that it started when the context does.
func (m making) run(ctx context.Context, dir, home string, command []string, log io.Writer) error {
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Dir = dir
	cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "LANG=C.UTF-8", "HOME=" + home, "TMPDIR=" + home, "SOURCE_DATE_EPOCH=315532800", "CI=true"}, m.env...)
	for _, name := range []string{"GOCACHE", "GOMODCACHE", "GOPROXY", "GOSUMDB", "npm_config_registry", "npm_config_cafile", "NODE_EXTRA_CA_CERTS", "SSL_CERT_FILE", "PIP_INDEX_URL"} {
		if v, ok := os.LookupEnv(name); ok {
			cmd.Env = append(cmd.Env, name+"="+v)
		}
	}
	if os.Getenv("GOCACHE") == "" { // or the standard library would be compiled anew each time
		if dir, err := os.UserCacheDir(); err == nil {
			cmd.Env = append(cmd.Env, "GOCACHE="+filepath.Join(dir, "go-build"))
		}
	}
	out := &limited{to: log, left: maxOutput}
	cmd.Stdout, cmd.Stderr = out, out
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("%w: %s: %w", ErrCommand, command[0], err)
	}
	stop := context.AfterFunc(ctx, func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) })
	defer stop()
	err := cmd.Wait()
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return fmt.Errorf("%w: %s took longer than %s and was ended", ErrCommand, command[0], maxMaking)
	case ctx.Err() != nil:
		return ctx.Err()
	case err != nil:
		return fmt.Errorf("%w: %s: %w: %s", ErrCommand, strings.Join(command, " "), err, out.last())
	}
	return nil
}

// collect gives the regular files of a folder, less hidden ones and those that are left out.
func collect(dir, only string, leaveOut []string) ([]pack.Entry, error) {
	var out []pack.Entry
	var total int64
	err := filepath.WalkDir(dir, func(full string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(dir, full)
		name := filepath.ToSlash(rel)
		switch {
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == "__pycache__" || name != "." && strings.HasPrefix(d.Name(), ".")):
			return fs.SkipDir
		case !d.Type().IsRegular() || strings.HasPrefix(d.Name(), ".") || only != "" && name != only || pack.LeaveOut(leaveOut, name):
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if total += info.Size(); total > pack.MaxBytes {
			return fmt.Errorf("%w: what was built has more than %d MiB; leave some out with build.leave_out", pack.ErrTooLarge, pack.MaxBytes>>20)
		}
		content, err := os.ReadFile(full)
		out = append(out, pack.Entry{Path: name, Executable: info.Mode()&0o100 != 0, Content: content})
		return err
	})
	return out, err
}

// limited passes on so many bytes, and keeps the newest of them.
type limited struct {
	to   io.Writer
	left int
	tail []byte
}

func (l *limited) Write(p []byte) (int, error) {
	l.tail = append(l.tail, p...)
	if over := len(l.tail) - 2000; over > 0 {
		l.tail = l.tail[over:]
	}
	switch n := min(len(p), l.left); {
	case n > 0:
		l.left -= n
		if _, err := l.to.Write(p[:n]); err != nil {
			return 0, err
		}
		if l.left == 0 {
			fmt.Fprintf(l.to, "\n(the rest is left out: a command may write %d KiB)\n", maxOutput>>10)
		}
	}
	return len(p), nil
}

// last gives the last line that is not empty.
func (l *limited) last() string {
	lines := bytes.Split(bytes.TrimSpace(l.tail), []byte("\n"))
	return string(bytes.TrimSpace(lines[len(lines)-1]))
}
