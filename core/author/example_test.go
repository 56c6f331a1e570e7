package author_test

import (
	"fmt"

	"rudmar/core/author"
)

func Example() {
	text := "function: warn\ntriggers:\n  ask: {route: GET /a, open_to: }\n"
	help := author.At(author.Cursor{File: "function.yaml", Text: text, Line: 3, Column: 33}, author.Names{})
	fmt.Println(help.About)
	for _, c := range help.Completions {
		fmt.Println(c.Label)
	}
	// Output:
	// Who can call the route: anyone, authenticated, or a list of groups.
	// anyone
	// authenticated
}

func ExampleFormat() {
	formed, err := author.Format("function.yaml", []byte("handler: warn:run\n\n\nfunction: warn\nenv:\n      A: x\n"))
	fmt.Printf("%s%v\n", formed, err)
	// Output:
	// function: warn
	// handler: warn:run
	//
	// env:
	//   A: x
	// <nil>
}
