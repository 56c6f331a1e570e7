package local

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
)

// WorkerCommand is the command of the platform's program that runs a function
// compiled to WebAssembly.
const WorkerCommand = "wasm-worker"

// runtimes lists what functions may be written for.
func runtimes() []string { return []string{"python", "node", "go"} }

// interpreter gives the command that runs a function's code, and how much more
// than the function's own limit its process may hold, in bytes.
func (p *pool) interpreter(runtime string, memory int64) (command []string, beyond int64, err error) {
	switch runtime {
	case "python", "":
		return []string{p.platform.options.Python, "-I", "-S", filepath.Join(p.root, "python", "worker.py")}, 0, nil
	case "node":
		// The heap may take all of the limit; the watch counts what is outside of it too.
		return []string{p.platform.options.Node, fmt.Sprintf("--max-old-space-size=%d", memory>>20), "--max-semi-space-size=4", filepath.Join(p.root, "node", "worker.mjs")}, 0, nil
	case "go":
		worker, err := p.worker()
		// The worker's own memory and the compiled code come on top of the module's.
		return []string{worker, WorkerCommand}, 128 << 20, err
	}
	return nil, 0, fmt.Errorf("there is no runtime %q here; there are %s", runtime, strings.Join(runtimes(), ", "))
}

// worker gives a copy of this program that functions' users may run.
func (p *pool) worker() (string, error) {
	p.unpack.Lock()
	defer p.unpack.Unlock()
	name := filepath.Join(p.root, "rudmar-worker")
	if _, err := os.Stat(name); err == nil {
		return name, nil
	}
	from, err := os.Open(p.platform.options.Self)
	if err != nil {
		return "", fmt.Errorf("copying the worker: %w", err)
	}
	defer from.Close()
	to, err := os.OpenFile(name+".half", os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o755)
	if err != nil {
		return "", fmt.Errorf("copying the worker: %w", err)
	}
	if _, err := io.Copy(to, from); err != nil {
		to.Close()
		return "", fmt.Errorf("copying the worker: %w", err)
	}
	if err := to.Close(); err != nil {
		return "", fmt.Errorf("copying the worker: %w", err)
	}
	return name, os.Rename(name+".half", name)
}
