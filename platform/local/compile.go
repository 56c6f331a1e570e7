package local

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/google/renameio/v2"

	"rudmar/core/resource"
	"rudmar/platform/local/wasm"
)

// compiler compiles the modules of functions into a folder for their workers, one after another: a compilation uses
// every core. Its methods can be called concurrently.
type compiler struct {
	one sync.Mutex // a compilation is running

	mu      sync.Mutex
	running map[string]bool // digests that are compiled in the background
}

// compiled compiles a function's module, once, for its workers. This happens when a revision is deployed; an
// invocation only does it after an upgrade of the platform.
func (p *pool) compiled(code string) (string, error) {
	cache := p.compiledFolder()
	if p.isCompiled(filepath.Base(code)) {
		return cache, nil
	}
	p.compiler.one.Lock()
	defer p.compiler.one.Unlock()
	if p.isCompiled(filepath.Base(code)) {
		return cache, nil
	}
	if err := os.MkdirAll(cache, 0o755); err != nil {
		return "", fmt.Errorf("creating the cache of compiled code: %w", err)
	}
	if err := wasm.Compile(context.Background(), filepath.Join(code, wasm.File), cache); err != nil {
		return "", fmt.Errorf("compiling the function's module: %w", err)
	}
	// The library's cache is for its own user; workers run as another one.
	err := filepath.WalkDir(cache, func(name string, d fs.DirEntry, err error) error {
		mode := os.FileMode(0o644)
		if d != nil && d.IsDir() {
			mode = 0o755
		}
		return errors.Join(err, os.Chmod(name, mode))
	})
	if err != nil {
		return "", fmt.Errorf("opening the cache of compiled code: %w", err)
	}
	return cache, renameio.WriteFile(filepath.Join(cache, filepath.Base(code)+compiledSuffix), nil, 0o644)
}

// compiledSuffix is the end of the name of the file that marks a compiled module.
const compiledSuffix = ".compiled"

// isCompiled reports whether the module of an archive, by its digest, is compiled.
func (p *pool) isCompiled(digest string) bool {
	_, err := os.Stat(filepath.Join(p.compiledFolder(), strings.TrimPrefix(digest, "sha256:")+compiledSuffix))
	return err == nil
}

// compiledFolder contains compiled code over restarts: one folder per version of the compiler.
func (p *pool) compiledFolder() string {
	root := p.platform.options.Dir
	if !p.platform.cages.Closed() {
		p.unpack.Lock()
		root = p.root // "" until code is unpacked for the first time
		p.unpack.Unlock()
	}
	return filepath.Join(root, "compiled", wasm.Compiler())
}

// ready prepares a revision's code for invocations: unpacked, and compiled if its runtime compiles.
func (p *pool) ready(digest, runtime string) error {
	code, err := p.code(digest)
	if err == nil && runtime == "go" {
		_, err = p.compiled(code)
	}
	return err
}

// compileSoon prepares a compiled function's code in the background, and reports whether that is in progress. Once it
// has ended, ready returns its result.
func (p *Platform) compileSoon(digest string) bool {
	c := &p.pool.compiler
	c.mu.Lock()
	defer c.mu.Unlock()
	if running, known := c.running[digest]; known {
		if !running {
			delete(c.running, digest)
		}
		return running
	}
	c.running[digest] = true
	p.running.Add(1)
	go func() {
		defer p.running.Done()
		err := p.pool.ready(digest, "go")
		if err != nil {
			p.options.Log.Info("compiling a function", "digest", digest, "error", err)
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		c.running[digest] = false
	}()
	return true
}

// mustCompile returns the archive of a change that creates a revision whose module is not compiled yet; "" for
// another change. Compiling can take longer than a request.
func (p *Platform) mustCompile(ctx context.Context, sc scope, address string, w changeRequest) (string, error) {
	kind, function, _ := strings.Cut(address, "/")
	artifact, _ := w.Attributes["artifact"].(string)
	if w.Remove || kind != resource.Revision || artifact == "" {
		return "", nil
	}
	config, there, err := p.store.resource(ctx, p.store.db, sc, resource.Function+"/"+function)
	if err != nil || !there || config.attributes["runtime"] != "go" || !p.archives.whole(artifact) ||
		p.pool.isCompiled(artifact) {
		return "", err // a missing dependency is reported when it is used
	}
	return artifact, nil
}
