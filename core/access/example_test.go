package access_test

import (
	"fmt"

	"rudmar/core/access"
)

func Example() {
	before := []access.Statement{{Resource: "tables/readings", Verbs: []string{"read"}}}
	after := []access.Statement{{Resource: "tables/*", Verbs: []string{"read", "write"}}}
	fmt.Println(access.Allows(before, "write", "tables/readings"), access.Allows(after, "write", "tables/readings"))
	for _, s := range access.Gained(before, after) {
		fmt.Println(s.Verbs, s.Resource)
	}
	// Output:
	// false true
	// [read write] tables/*
}
