package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"rudmar/cage"
	"rudmar/core/pack"
)

// limits of the cage of one function's build.
func limits() cage.Limits {
	return cage.Limits{Memory: 3 << 30, Processes: 512, Scratch: 1 << 30, OpenFiles: 8192}
}

// ErrUncaged reports that commands cannot be isolated here.
var ErrUncaged = errors.New(
	"build commands are refused: this machine cannot isolate them, so they could read Rudmar's keys and data; run Rudmar where namespaces are allowed, or set --builds-uncaged if you trust everyone who can push")

// make builds a function from its sources, and returns the files of its archive.
func (b *Builder) make(ctx context.Context, m recipe, entries []pack.Entry, leaveOut []string,
	log io.Writer) ([]pack.Entry, error) {
	if m.locked != nil {
		if err := m.locked(entries); err != nil {
			return nil, err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, maxMaking)
	defer cancel()
	if m.only != "" {
		if err := b.warm(ctx); err != nil {
			return nil, err
		}
	}
	switch {
	case b.cages != nil && b.cages.Closed():
		return b.makeCaged(ctx, m, entries, leaveOut, log)
	case b.uncaged.Load():
		return b.makeWithoutIsolation(ctx, m, entries, leaveOut, log)
	}
	return nil, ErrUncaged
}

// makeCaged builds a function in a cage: its commands see their own folder and the tools, and reach nothing
// else.
func (b *Builder) makeCaged(ctx context.Context, m recipe, entries []pack.Entry, leaveOut []string,
	log io.Writer) ([]pack.Entry, error) {
	tools, err := toolsOf()
	if err != nil {
		return nil, err
	}
	out := &limited{to: log}
	spec := cage.Spec{Limits: limits(), Mounts: tools.mounts}
	if m.only != "" {
		cache, err := goCache()
		if err != nil {
			return nil, err
		}
		spec.Mounts = append(spec.Mounts, cage.Mount{From: cache, To: "/rudmar/go-build", Layered: true})
	}
	way := &cage.Proxy{Log: b.log}
	s, err := b.cages.Session(spec, out, way.Serve)
	if err != nil {
		return nil, fmt.Errorf("isolating a build: %w", err)
	}
	defer s.Close()
	for _, e := range append(m.sources(entries), pack.Entry{Path: "../home/.keep"}) {
		if err := s.Put(ctx, cage.File{Path: filepath.Join(codeFolder, e.Path), Executable: e.Executable,
			Content: e.Content}); err != nil {
			return nil, describeEnd(ctx, fmt.Errorf("copying %s: %w", e.Path, err))
		}
	}
	env := append([]string{"PATH=" + tools.path, "LANG=C.UTF-8", "HOME=" + homeFolder, "TMPDIR=" + homeFolder,
		"GOCACHE=/rudmar/go-build", "GOPATH=" + homeFolder + "/go", "SOURCE_DATE_EPOCH=315532800", "CI=true"},
		certificates()...)
	env = append(env, m.env...)
	run := func(command, env []string, open bool) error {
		fmt.Fprintf(log, "  $ %s\n", strings.Join(command, " "))
		out.begin(maxOutput)
		exit, err := s.Run(ctx, cage.Step{Command: command, Env: env, Dir: codeFolder, Way: open})
		switch {
		case err != nil && s.Starved(), exit != 0 && s.Starved():
			return fmt.Errorf("%w: %s exceeded the memory limit of a build, %d MiB", ErrCommand,
				strings.Join(command, " "), limits().Memory>>20)
		case err != nil:
			return describeEnd(ctx, fmt.Errorf("%w: %s: %w", ErrCommand, command[0], err))
		case exit != 0:
			return fmt.Errorf("%w: %s: exit status %d: %s", ErrCommand, strings.Join(command, " "), exit, out.errorLine())
		}
		return nil
	}
	var own []string
	if len(m.fetch) > 0 || m.network {
		var registries map[string]bool
		if registries, own, err = b.registries(ctx); err != nil {
			return nil, err
		}
		way.May = func(host string) bool { return registries[host] }
		for _, command := range m.fetch {
			if err := run(command, append(append(env[:len(env):len(env)], own...), proxied()...), true); err != nil {
				return nil, errors.Join(err, way.Refusals())
			}
		}
	}
	offline := append(append(env[:len(env):len(env)], "GOPROXY=off", "GOSUMDB=off"), m.offline...)
	if m.network {
		way.May, way.Reach = func(string) bool { return true }, cage.Outside
		offline = append(append(env[:len(env):len(env)], own...), proxied()...)
	}
	for _, command := range m.commands {
		if err := run(command, offline, m.network); err != nil {
			return nil, errors.Join(err, way.Refusals())
		}
	}
	files, err := s.Collect(ctx, codeFolder, func(name string) bool { return m.goes(name, leaveOut) }, pack.MaxBytes)
	if errors.Is(err, cage.ErrTooMuch) {
		return nil, fmt.Errorf("%w: the artifact has more than %d MiB; exclude files with build.exclude",
			pack.ErrTooLarge, pack.MaxBytes>>20)
	}
	if err != nil {
		return nil, describeEnd(ctx, fmt.Errorf("reading the artifact: %w", err))
	}
	made := make([]pack.Entry, len(files))
	for i, f := range files {
		made[i] = pack.Entry{Path: f.Path, Executable: f.Executable, Content: f.Content}
	}
	return made, nil
}

// describeEnd returns an error that says so if a build exceeded its time limit.
func describeEnd(ctx context.Context, err error) error {
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return fmt.Errorf("%w: stopped after the limit of %s", ErrCommand, maxMaking)
	case ctx.Err() != nil:
		return ctx.Err()
	}
	return err
}

// proxied reports tools of their way out.
func proxied() []string {
	at := "http://" + cage.ProxyAddress
	return []string{"HTTP_PROXY=" + at, "HTTPS_PROXY=" + at, "http_proxy=" + at, "https_proxy=" + at}
}

// certificates returns the trusted certificates of tools, as far as the cage has them.
func certificates() []string {
	var out []string
	for _, name := range []string{"NODE_EXTRA_CA_CERTS", "SSL_CERT_FILE", "SSL_CERT_DIR",
		"PIP_CERT", "npm_config_cafile"} {
		if v, ok := os.LookupEnv(name); ok && strings.HasPrefix(v, "/etc/ssl/") {
			out = append(out, name+"="+v)
		}
	}
	return out
}

// tools are the programs that builds use, and their mounts.
type tools struct {
	path   string
	mounts []cage.Mount
}

// toolsOf finds the tools on this machine.
func toolsOf() (tools, error) {
	t := tools{path: "/usr/local/bin:/usr/bin:/bin"}
	for _, name := range []string{"go", "node", "npm"} {
		found, err := exec.LookPath(name)
		if err != nil {
			continue // a build that needs it reports that
		}
		if found, err = filepath.Abs(found); err != nil {
			return t, err
		}
		real, err := filepath.EvalSymlinks(found)
		if err != nil {
			return t, fmt.Errorf("finding %s: %w", name, err)
		}
		if dir := filepath.Dir(found); !strings.Contains(":"+t.path+":", ":"+dir+":") {
			t.path = dir + ":" + t.path
		}
		if strings.HasPrefix(real, "/usr/") {
			continue
		}
		if root := filepath.Dir(filepath.Dir(real)); !shown(t.mounts, root) {
			t.mounts = append(t.mounts, cage.Mount{From: root})
		}
		if dir := filepath.Dir(found); found != real && !strings.HasPrefix(dir, "/usr/") && !shown(t.mounts, dir) {
			t.mounts = append(t.mounts, cage.Mount{From: dir})
		}
	}
	return t, nil
}

func shown(mounts []cage.Mount, path string) bool {
	for _, m := range mounts {
		if path == m.From || strings.HasPrefix(path, m.From+"/") {
			return true
		}
	}
	return false
}

// goCache is Go's build cache on this machine.
func goCache() (string, error) {
	if dir := os.Getenv("GOCACHE"); dir != "" {
		return dir, nil
	}
	dir, err := os.UserCacheDir()
	if err != nil {
		return "", fmt.Errorf("finding Go's cache: %w", err)
	}
	return filepath.Join(dir, "go-build"), nil
}
