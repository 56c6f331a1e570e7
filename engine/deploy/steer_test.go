package deploy

import (
	"fmt"
	"testing"
)

// Whatever the share, all calls are given out, and a revision that gets none is not named.
func TestSharesOf(t *testing.T) {
	for share, want := range map[float64]string{0: "map[former:100]", 0.5: "map[former:99.5 newer:0.5]", 1: "map[former:99 newer:1]",
		50: "map[former:50 newer:50]", 99.5: "map[former:0.5 newer:99.5]", 100: "map[newer:100]"} {
		if got := fmt.Sprint(sharesOf("former", "newer", share)); got != want {
			t.Errorf("%v: %s, not %s", share, got, want)
		}
	}
}
