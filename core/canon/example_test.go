package canon_test

import (
	"fmt"

	"rudmar/core/canon"
)

// Names are sorted and numbers have one form, so equal values have one digest.
func Example() {
	a, _ := canon.Digest(map[string]any{"memory": 128.0, "handler": "warn:run"})
	b, _ := canon.Digest(map[string]any{"handler": "warn:run", "memory": 1.28e2})
	fmt.Println(a == b, canon.Text(map[string]any{"b": 1e2, "a": "°"}))
	// Output: true {"a":"°","b":100}
}
