// Package starter gives the files of a new function that works at once.
package starter

import (
	"errors"
	"fmt"
	"path"
	"strings"
)

// ErrRuntime tells that there is no starter for a runtime.
var ErrRuntime = errors.New("there is no starter for this runtime")

// Runtimes lists those that have a starter.
func Runtimes() []string { return []string{"python"} }

// Function gives the files of a new function, by path relative to the
// service's folder: its manifest, its code, and a case.
func Function(name, runtime string) (map[string]string, error) {
	if runtime != "python" {
		return nil, fmt.Errorf("%w: %q; there is one for %s", ErrRuntime, runtime, strings.Join(Runtimes(), ", "))
	}
	dir := path.Join("functions", name)
	return map[string]string{
		path.Join(dir, "function.yaml"): fmt.Sprintf(`function: %[1]s
about: Says what it is for, in a sentence
runtime: python
handler: main:run
triggers:
  ask: {route: "GET /%[1]s/{who}", open_to: members}
`, name),
		path.Join(dir, "main.py"): `"""Answers a greeting."""


def run(call):
    who = call.event["params"]["who"]
    print("asked by", who)
    return {"status": 200, "body": {"hello": who}}
`,
		path.Join(dir, "cases", "greets.yaml"): fmt.Sprintf(`case: somebody is greeted by name
send: {route: GET /%s/linden}
expect:
  - status == 200
  - body.hello == "linden"
`, name),
	}, nil
}
