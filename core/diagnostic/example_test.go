package diagnostic_test

import (
	"fmt"

	"rudmar/core/diagnostic"
)

func Example() {
	text := []byte("function: warn\nmemroy: 192 MiB\n")
	d := diagnostic.Diagnostic{
		Code: diagnostic.CodeUnknownKey, Severity: diagnostic.Error, Message: `"memroy" is not a key of a function`,
		Range: diagnostic.Range{File: "function.yaml", Line: 2, Column: 1, EndLine: 2, EndColumn: 7},
	}
	d.Meant(diagnostic.Nearest("memroy", []string{"handler", "memory", "timeout"}))
	fmt.Println(d)
	fmt.Println(d.Excerpt(text))
	fmt.Printf("%s", diagnostic.Apply(text, []diagnostic.Diagnostic{d}))
	// Output:
	// function.yaml:2:1: "memroy" is not a key of a function; did you mean "memory"? (RM1101)
	//     2 | memroy: 192 MiB
	//       | ^^^^^^
	// function: warn
	// memory: 192 MiB
}
