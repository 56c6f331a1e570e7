package deploy

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"testing"

	"rudmar/core/delivery"
	"rudmar/platform"
	"rudmar/platform/api"
)

// Shares always add up to all invocations, and a revision without a share is left out.
func TestSharesOf(t *testing.T) {
	for share, want := range map[float64]string{0: "map[former:100]", 0.5: "map[former:99.5 newer:0.5]", 1: "map[former:99 newer:1]",
		50: "map[former:50 newer:50]", 99.5: "map[former:0.5 newer:99.5]", 100: "map[newer:100]"} {
		if got := fmt.Sprint(sharesOf("former", "newer", share)); got != want {
			t.Errorf("%v: %s, not %s", share, got, want)
		}
	}
}

// The reason for retries is reported, not the end of the wait.
func TestRetryReason(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	sick := &platform.Problem{Problem: api.Problem{Status: http.StatusServiceUnavailable}}
	if _, err := RetryUnavailable(ctx, func() (int, error) { cancel(); return 0, sick }); err != sick {
		t.Errorf("it says %v", err)
	}
}

// What a deployment could not do is left alone for a while, and no deployment is run by two.
func TestIdleDeployments(t *testing.T) {
	r := NewRunner(RunnerConfig{})
	for i, tt := range []struct {
		do    func()
		takes bool
	}{
		{func() {}, true}, {func() {}, false}, {func() { r.release(7, nil) }, true}, {func() { r.release(7, errors.New("full")) }, false},
		{func() { r.release(7, nil) }, true},
	} {
		if tt.do(); r.enter(7) != tt.takes {
			t.Errorf("%d: it is taken: %v", i, !tt.takes)
		}
	}
}

// A stage contains the entered version, and the versions of its unselected functions, sorted and unique.
func TestVersionsOf(t *testing.T) {
	kept := map[string]int{"a": 9, "b": 3, "c": 7, "d": 3, "e": 0, "f": 5, "g": 8}
	for range 20 { // for any order of the map
		if got := versionsOf(&delivery.Choice{Kept: kept}, 7); !slices.Equal(got, []int{7, 3, 5, 8, 9}) {
			t.Fatalf("%v", got)
		}
	}
	if got := versionsOf(nil, 7); !slices.Equal(got, []int{7}) {
		t.Errorf("%v", got)
	}
}
