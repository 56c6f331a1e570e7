package resource_test

import (
	"fmt"
	"testing"

	"rudmar/core/resource"
)

func ExampleSplit() {
	kind, rest := resource.Split("route/warn/ask")
	fmt.Println(kind == resource.Route, rest)
	// Output: true warn/ask
}

func TestSplitInvalidAddress(t *testing.T) {
	for address, want := range map[string][2]string{"": {"", ""}, "identity": {"identity", ""}, "/x": {"", "x"},
		"grant/warn/objects/photos/raw/*": {"grant", "warn/objects/photos/raw/*"}} {
		if kind, rest := resource.Split(address); kind != want[0] || rest != want[1] {
			t.Errorf("%q: %q %q", address, kind, rest)
		}
	}
}
