package author_test

import (
	"testing"

	"rudmar/core/check"
	"rudmar/core/manifest"
)

const service = `rudmar: 1
service: frostline
settings:
  frost_limit: {type: number, default: 0.5, min: -10, max: 10}
  mode: {type: enum, values: [quiet, loud], default: quiet}
secrets: [sms_key]
stages:
  - stage: trial
    target: local/north
    enter: {when: push, branch: main}
  - stage: live
    targets: [local/north, local/coast]
    enter: {after: trial, when: request}
    gates:
      cases: all
`

const warn = `function: warn
description: Warns growers
handler: warn:run
env:
  LIMIT_C: ${settings.frost_limit}
triggers:
  ask: {route: "GET /stations/{station}/frost", open_to: anyone}
permissions:
  - {allow: [read], resource: tables/stations}
`

// sound is a service without a problem, with some files more or changed.
func sound(t *testing.T, changes map[string]string) manifest.Files {
	t.Helper()
	files := manifest.FilesOf(map[string]string{
		"rudmar.yaml": service, "functions/warn/function.yaml": warn,
		"functions/warn/warn.py": "def run(call):\n    return 1\n",
	})
	for name, text := range changes {
		files[name] = []byte(text)
	}
	if r := check.Service(files); !r.OK() {
		t.Fatal(r.Diagnostics)
	}
	return files
}
