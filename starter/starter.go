// Package starter provides the files of a new function for each runtime, and the files that a build adds to a
// Go function.
package starter

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
)

//go:embed files
var files embed.FS

// ErrRuntime reports that there is no starter for a runtime.
var ErrRuntime = errors.New("no starter for this runtime")

// Runtimes lists those that have a starter.
func Runtimes() []string { return []string{"python", "node", "go"} }

// ErrName reports that a name is none.
var ErrName = errors.New("a name has 1 to 40 lowercase letters, digits and hyphens and starts with a letter")

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// Service returns the files of a new, working service, by path relative to its folder: two stages, a function
// with a case, and instructions.
func Service(name, runtime string) (map[string]string, error) {
	if !nameForm.MatchString(name) {
		return nil, fmt.Errorf("%w: %q", ErrName, name)
	}
	out, err := Function("hello", runtime)
	if err != nil {
		return nil, err
	}
	for _, file := range []string{"rudmar.yaml.txt", "README.md.txt"} {
		text, err := fs.ReadFile(files, "files/service/"+file)
		if err != nil {
			return nil, err
		}
		out[strings.TrimSuffix(file, ".txt")] = strings.NewReplacer("$NAME", name, "RUNTIME", runtime).Replace(string(text))
	}
	return out, nil
}

// Function returns the files of a new function, by path relative to the
// service's folder: its manifest, its code, and a case.
func Function(name, runtime string) (map[string]string, error) {
	if !nameForm.MatchString(name) {
		return nil, fmt.Errorf("%w: %q", ErrName, name)
	}
	if !slices.Contains(Runtimes(), runtime) {
		return nil, fmt.Errorf("%w: %q (expected %s)", ErrRuntime, runtime, strings.Join(Runtimes(), ", "))
	}
	dir := path.Join("functions", name)
	out := map[string]string{
		path.Join(dir, "function.yaml"): fmt.Sprintf(`function: %[1]s
description: Describe the function in one sentence
runtime: %[2]s
handler: main:run
triggers:
  ask: {route: "GET /%[1]s/{who}", open_to: authenticated}
`, name, runtime),
		path.Join(dir, "cases", "greets.yaml"): fmt.Sprintf(`case: greets a caller by name
send: {route: GET /%s/linden}
expect:
  - status == 200
  - body.hello == "linden"
no_side_effects: true
`, name),
	}
	own, err := fs.ReadDir(files, path.Join("files", runtime))
	if err != nil {
		return nil, err
	}
	for _, f := range own {
		if f.Name() == "worker.go.txt" {
			continue
		}
		text, err := fs.ReadFile(files, path.Join("files", runtime, f.Name()))
		if err != nil {
			return nil, err
		}
		out[path.Join(dir, strings.TrimSuffix(f.Name(), ".txt"))] = strings.ReplaceAll(string(text), "NAME", name)
	}
	return out, nil
}

// GoFiles returns the files that a build adds to a Go function's folder if they are missing: the module and the
// platform's API.
func GoFiles() (map[string]string, error) {
	out := map[string]string{}
	for _, name := range []string{"go.mod.txt", "rudmar.go.txt"} {
		text, err := fs.ReadFile(files, "files/go/"+name)
		if err != nil {
			return nil, err
		}
		out[strings.TrimSuffix(name, ".txt")] = strings.ReplaceAll(string(text), "NAME", "function")
	}
	return out, nil
}

// GoWorker returns the file that a build adds so the platform can invoke a handler in package main.
func GoWorker(handler string) (string, error) {
	text, err := fs.ReadFile(files, "files/go/worker.go.txt")
	return strings.Replace(string(text), "HANDLER", handler, 1), err
}
