package access_test

import (
	"fmt"

	"rudmar/core/access"
)

func Example() {
	before := []access.Statement{{Resource: "tables/readings", Verbs: []string{"read"}}}
	after := []access.Statement{{Resource: "tables/*", Verbs: []string{"read", "write"}}}
	fmt.Println(access.Allows(before, "write", "tables/readings"), access.Allows(after, "write", "tables/readings"))
	for _, g := range access.Gained(before, after) {
		fmt.Println(g.Verbs, g.Resource, "except", g.Except)
	}
	// Output:
	// false true
	// [read] tables/* except [{[read] tables/readings}]
	// [write] tables/* except []
}
