package check_test

import (
	"fmt"

	"rudmar/core/check"
	"rudmar/core/manifest"
)

func Example() {
	folder := manifest.FilesOf(map[string]string{
		"rudmar.yaml":                  "rudmar: 1\nservice: frostline\nstages:\n  - {stage: trial, target: local/nroth, enter: {when: push}}\n",
		"functions/warn/function.yaml": "function: warn\nhandler: warn:run\nmemory: 192\n",
		"functions/warn/warn.py":       "def run(call):\n    return 1\n",
	})
	offers := &check.Offers{
		Of: map[string]check.Offer{"local": {Regions: []string{"north", "coast"}, Runtimes: []string{"python"}}}}
	result := check.Options{Offers: offers}.Service(folder)
	for _, d := range result.Diagnostics {
		fmt.Println(d)
	}
	fmt.Println(result.OK(), result.Service.Function("warn").File)
	// Output:
	// functions/warn/function.yaml:3:9: memory: "192" has no unit; write MiB or GiB, as in 128 MiB (RM1203)
	// rudmar.yaml:4:28: local has no region "nroth"; did you mean "local/north"? (RM1608)
	// false functions/warn/function.yaml
}
