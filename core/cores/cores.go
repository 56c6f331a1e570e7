// Package cores distributes work over all processors.
//
// All its functions can be called concurrently.
package cores

import (
	"runtime"
	"sync"
	"sync/atomic"
)

// Share calls do for stretches of 0 to n that together are all of it, on as many
// processors as there are, and returns when all is done. Stretches are large
// enough that sharing them out costs little.
func Share(n int, do func(from, to int)) {
	stretch := min(512, max(16, n/16))
	var next atomic.Int64
	var group sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), (n+stretch-1)/stretch) {
		group.Go(func() {
			for {
				from := int(next.Add(int64(stretch))) - stretch
				if from >= n {
					return
				}
				do(from, min(n, from+stretch))
			}
		})
	}
	group.Wait()
}
