package local

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"rudmar/cage"
)

// WorkerCommand is the command of the platform's program that runs a function
// compiled to WebAssembly.
const WorkerCommand = "wasm-worker"

// runtimes lists the runtimes of functions.
func runtimes() []string { return []string{"python", "node", "go"} }

// view is an instance's view of the platform's files. Without isolation they are at their own paths.
type view struct {
	closed bool
	mounts []cage.Mount
}

// show mounts a file or folder, and returns its path inside.
func (v *view) show(from, to string) string {
	if !v.closed {
		return from
	}
	v.mounts = append(v.mounts, cage.Mount{From: from, To: to})
	return to
}

// program mounts the files of a program: nothing if it is among the system's own, which every function sees,
// otherwise its installation folder.
func (v *view) program(name string) (string, error) {
	found, err := exec.LookPath(name)
	if err == nil {
		found, err = filepath.EvalSymlinks(found)
	}
	if err != nil {
		return "", fmt.Errorf("finding %s: %w", name, err)
	}
	if strings.HasPrefix(found, "/usr/") || strings.HasPrefix(found, "/bin/") {
		return found, nil
	}
	installed := filepath.Dir(filepath.Dir(found))
	return filepath.Join(v.show(installed, installed), filepath.Base(filepath.Dir(found)), filepath.Base(found)), nil
}

// interpreter returns the command that runs a function's code, and how much more memory than the function's own
// limit its process can use, in bytes.
func (p *pool) interpreter(runtime string, memory int64, v *view) (command []string, beyond int64, err error) {
	switch runtime {
	case "python", "":
		python, err := v.program(p.platform.options.Python)
		worker := compiledWorker
		if _, missing := os.Stat(filepath.Join(p.root, "python", worker)); missing != nil {
			worker = "worker.py"
		}
		return []string{python, "-I", "-S",
			filepath.Join(v.show(filepath.Join(p.root, "python"), "/rudmar/python"), worker)}, 0, err
	case "node":
		node, err := v.program(p.platform.options.Node)
		v.show(filepath.Join(p.root, "code", "node_modules"), "/node_modules")
		// The heap can use the whole limit; the watch counts memory outside it too.
		return []string{node, fmt.Sprintf("--max-old-space-size=%d", memory>>20), "--max-semi-space-size=4",
			filepath.Join(v.show(filepath.Join(p.root, "node"), "/rudmar/node"), "worker.mjs")}, 0, err
	case "go":
		worker, err := p.worker()
		// The worker's own memory and the compiled code are added to the module's.
		return []string{v.show(worker, "/rudmar/worker"), WorkerCommand}, 128 << 20, err
	}
	return nil, 0, fmt.Errorf("unknown runtime %q (expected %s)", runtime, strings.Join(runtimes(), ", "))
}

// worker returns a copy of this program that functions' users can execute.
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
