package delivery_test

import (
	"context"
	"fmt"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
)

// A version that needs an approval by somebody other than its author.
func ExampleGates() {
	actual := &manifest.Stage{Name: "live", When: manifest.OnReady,
		Gates: manifest.Gates{Approvals: &manifest.Approvals{Count: 1}}}
	for _, g := range delivery.Gates(context.Background(), delivery.Entry{Own: actual}, delivery.Facts{
		Authors: []string{"wren"}, Impact: []string{},
		Approvals: []delivery.Approval{{Person: "wren", Shown: []string{}}},
	}) {
		fmt.Println(g.Name, g.State)
	}
	// Output: approval waiting
}

func ExampleNext() {
	state, err := delivery.Next(delivery.Waiting, delivery.Enter)
	fmt.Println(state, err)
	_, err = delivery.Next(delivery.Settled, delivery.Enter)
	fmt.Println(err != nil)
	// Output:
	// planning <nil>
	// true
}
