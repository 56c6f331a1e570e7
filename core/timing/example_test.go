package timing_test

import (
	"fmt"
	"time"

	"rudmar/core/timing"
)

// The clock goes from 02:00 to 03:00 in that night: times in the gap are due then.
func Example() {
	nightly, _ := timing.Read("30 2 * * *", "Europe/Oslo", 0)
	for _, at := range nightly.Times(time.Date(2031, 3, 29, 12, 0, 0, 0, time.UTC), 2) {
		fmt.Println(at.UTC().Format(time.RFC3339))
	}
	// Output:
	// 2031-03-30T01:00:00Z
	// 2031-03-31T00:30:00Z
}
