package manifest_test

import (
	"fmt"

	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/tree"
)

func Example() {
	root, _ := tree.Parse("rudmar.yaml",
		[]byte("service: frostline\ndefaults: {memory: 128 MiB}\nstages: [{stage: live, target: local/north}]\n"))
	file, _ := tree.Parse("warn/function.yaml",
		[]byte("function: warn\nhandler: warn:run\nper_stage:\n  live: {memory: 256 MiB}\n"))
	root.Get("defaults").Mark(tree.Defaults)

	service := manifest.DecodeService(root)
	shared := manifest.Shared(language.New().Function, root)
	warn := manifest.DecodeFunction("warn/function.yaml", file, shared, service)
	for _, stage := range []string{"", "live"} {
		memory := warn.At(stage).Memory
		fmt.Println(language.FormatSize(memory.V), memory.From.File, memory.From.Line)
	}
	// Output:
	// 128 MiB rudmar.yaml 2
	// 256 MiB warn/function.yaml 4
}

func ExampleParseTemplate() {
	template, err := manifest.ParseTemplate("alerts-${stage.name}")
	fmt.Println(template[0].Literal, template[1].Kind, err)
	// Output: alerts- stage.name <nil>
}
