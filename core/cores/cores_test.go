package cores_test

import (
	"sync/atomic"
	"testing"

	"rudmar/core/cores"
)

// Each number is worked at once, whatever their count.
func TestShare(t *testing.T) {
	for _, n := range []int{0, 1, 15, 16, 17, 511, 5000} {
		seen := make([]atomic.Int32, n)
		cores.Share(n, func(from, to int) {
			for i := from; i < to; i++ {
				seen[i].Add(1)
			}
		})
		for i := range seen {
			if times := seen[i].Load(); times != 1 {
				t.Fatalf("%d of %d was worked at %d times", i, n, times)
			}
		}
	}
}
