package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"rudmar/core/pack"
	"rudmar/starter"
)

// makeWithoutIsolation builds a function in a clean folder, as the user that runs Rudmar: for machines that
// cannot isolate commands, if the operator allows it.
func (b *Builder) makeWithoutIsolation(ctx context.Context, m recipe, entries []pack.Entry, leaveOut []string,
	log io.Writer) ([]pack.Entry, error) {
	root, err := b.folder()
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(root)
	dir, home := filepath.Join(root, "code"), filepath.Join(root, "home")
	if err := errors.Join(os.Mkdir(dir, 0o700), os.Mkdir(home, 0o700)); err != nil {
		return nil, err
	}
	for _, e := range m.sources(entries) {
		if err := put(dir, e); err != nil {
			return nil, err
		}
	}
	tools, err := toolsOf()
	if err != nil {
		return nil, err
	}
	cache, err := goCache()
	if err != nil {
		return nil, err
	}
	env := append([]string{"PATH=" + tools.path, "LANG=C.UTF-8", "HOME=" + home, "TMPDIR=" + home, "GOCACHE=" + cache,
		"SOURCE_DATE_EPOCH=315532800", "CI=true"}, certificates()...)
	here := func(words []string) []string { // in place of the session's folder
		out := make([]string, len(words))
		for i, w := range words {
			out[i] = strings.ReplaceAll(w, homeFolder, home)
		}
		return out
	}
	env = append(env, here(m.env)...)
	_, own, err := b.registries(ctx)
	if err != nil {
		return nil, err
	}
	for i, command := range slices.Concat(m.fetch, m.commands) {
		with := append(env[:len(env):len(env)], own...)
		if i >= len(m.fetch) {
			with = append(with, here(m.offline)...)
		}
		fmt.Fprintf(log, "  $ %s\n", strings.Join(command, " "))
		if err := runWithoutIsolation(ctx, dir, with, here(command), log); err != nil {
			return nil, err
		}
	}
	return collect(dir, func(name string) bool { return m.goes(name, leaveOut) })
}

// folder creates an empty folder in the data folder.
func (b *Builder) folder() (string, error) {
	under := workFolder(b.artifacts)
	if err := os.MkdirAll(under, 0o700); err != nil {
		return "", fmt.Errorf("creating a clean folder: %w", err)
	}
	dir, err := os.MkdirTemp(under, "build-")
	if err != nil {
		return "", fmt.Errorf("creating a clean folder: %w", err)
	}
	return dir, nil
}

// workFolder returns the folder of the builds in progress, beside that of the archives.
func workFolder(artifacts string) string { return filepath.Join(filepath.Dir(artifacts), "work") }

func put(dir string, e pack.Entry) error {
	mode := os.FileMode(0o644)
	if e.Executable {
		mode = 0o755
	}
	full := filepath.Join(dir, filepath.FromSlash(path.Clean("/"+e.Path)))
	return errors.Join(os.MkdirAll(filepath.Dir(full), 0o755), os.WriteFile(full, e.Content, mode))
}

// runWithoutIsolation runs one command. It ends with its process group when the context does.
func runWithoutIsolation(ctx context.Context, dir string, env, command []string, log io.Writer) error {
	cmd := exec.Command(command[0], command[1:]...)
	if found, err := exec.LookPath(command[0]); err == nil {
		cmd.Path = found
	}
	cmd.Dir, cmd.Env = dir, env
	out := &limited{to: log, left: maxOutput}
	cmd.Stdout, cmd.Stderr = out, out
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("%w: %s: %w", ErrCommand, command[0], err)
	}
	stop := context.AfterFunc(ctx, func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) })
	defer stop()
	err := cmd.Wait()
	_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // its remaining processes
	switch {
	case ctx.Err() != nil:
		return describeEnd(ctx, err)
	case err != nil:
		return fmt.Errorf("%w: %s: %w: %s", ErrCommand, strings.Join(command, " "), err, out.errorLine())
	}
	return nil
}

// collect returns the regular files of a folder that go into an archive.
func collect(dir string, goes func(name string) bool) ([]pack.Entry, error) {
	var out []pack.Entry
	var total int64
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	err = fs.WalkDir(root.FS(), ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() || !goes(name) {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if total += info.Size(); total > pack.MaxBytes {
			return fmt.Errorf("%w: the artifact has more than %d MiB; exclude files with build.exclude",
				pack.ErrTooLarge, pack.MaxBytes>>20)
		}
		content, err := root.ReadFile(name)
		out = append(out, pack.Entry{Path: name, Executable: info.Mode()&0o100 != 0, Content: content})
		return err
	})
	return out, err
}

// warm compiles the packages that every Go function needs, once, so builds find them in Go's cache, which they
// can read but not change. Only Rudmar's own code is compiled.
func (b *Builder) warm(ctx context.Context) error {
	b.warming.Lock()
	defer b.warming.Unlock()
	if b.warmed {
		return nil
	}
	root, err := b.folder()
	if err != nil {
		return err
	}
	defer os.RemoveAll(root)
	files, err := starter.Function("warm", "go")
	if err != nil {
		return err
	}
	for name, text := range files {
		if strings.HasSuffix(name, ".go") {
			if err := put(root, pack.Entry{Path: path.Base(name), Content: []byte(text)}); err != nil {
				return err
			}
		}
	}
	added, err := starter.GoFiles()
	if err != nil {
		return err
	}
	worker, err := starter.GoWorker("run")
	if err != nil {
		return err
	}
	added["rudmar_worker_wasip1.go"] = worker
	for name, text := range added {
		if err := put(root, pack.Entry{Path: name, Content: []byte(text)}); err != nil {
			return err
		}
	}
	cache, err := goCache()
	if err != nil {
		return err
	}
	temporary := filepath.Join(root, ".tmp") // Go ignores a go.mod in TMPDIR itself
	if err := os.Mkdir(temporary, 0o700); err != nil {
		return fmt.Errorf("creating a clean folder: %w", err)
	}
	env := append([]string{"PATH=" + os.Getenv("PATH"), "HOME=" + root, "TMPDIR=" + temporary, "GOCACHE=" + cache,
		"GOPROXY=off"},
		goEnvironment()...)
	if err := runWithoutIsolation(ctx, root, env, goBuild(), io.Discard); err != nil {
		return fmt.Errorf("compiling the dependencies of Go functions: %w", err)
	}
	b.warmed = true
	return nil
}
