package expand_test

import (
	"fmt"

	"rudmar/core/check"
	"rudmar/core/expand"
	"rudmar/core/manifest"
)

func Example() {
	service := check.Service(manifest.FilesOf(map[string]string{
		"rudmar.yaml":                  "rudmar: 1\nservice: frostline\nstages: [{stage: live, target: local/north}]\n",
		"functions/warn/function.yaml": "function: warn\nhandler: warn:run\n",
		"functions/warn/warn.py":       "def run(call): return {}\n",
	})).Service
	actual := service.Stage("live")
	resources, problems := expand.Expand(service, actual, actual.Targets[0],
		expand.Inputs{Version: 1, Artifacts: map[string]string{"warn": "sha256:1"}})
	for _, r := range resources {
		fmt.Println(r.Address)
	}
	fmt.Println(problems)
	// Output:
	// function/warn
	// identity/warn
	// logs/warn
	// pointer/warn
	// revision/warn
	// []
}
