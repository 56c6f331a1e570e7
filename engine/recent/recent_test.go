package recent_test

import (
	"fmt"
	"testing"

	"rudmar/engine/recent"
)

func ExampleNew() {
	cache := recent.New[string, int](2)
	cache.Add("ash", 1)
	cache.Add("birch", 2)
	cache.Get("ash")
	cache.Add("elm", 3) // birch was not used, and is evicted
	fmt.Println(cache.Contains("ash"), cache.Contains("birch"), cache.Contains("elm"))
	// Output: true false true
}

func TestZeroCapacity(t *testing.T) {
	defer func() {
		if recover() == nil {
			t.Error("a cache for nothing is made")
		}
	}()
	recent.New[string, int](0)
}
