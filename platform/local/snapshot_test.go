package local_test

import (
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"testing"

	"rudmar/platform"
)

// After any operation on a scope, the fingerprint agrees with a full read; operations elsewhere do not change
// it.
func TestETags(t *testing.T) {
	s := newStand(t)
	rng := rand.New(rand.NewPCG(1, 2))
	elsewhere := platform.Scope{Region: "north", Service: "frostline", Stage: "live"}
	there := map[string]bool{}
	change := func(what int) {
		address := fmt.Sprint("logs/f", rng.IntN(4))
		switch {
		case what < 6:
			s.put(address, map[string]any{"retention": float64(86_400_000 * (1 + rng.IntN(3)))})
			there[address] = true
		case what < 8 && there[address]:
			must(t, s.client.Delete(t.Context(), s.scope, address, platform.Change{Key: fmt.Sprint("d", rng.Int())}))
			delete(there, address)
		case what >= 8:
			setting := []string{`{"late_ms": 60000}`, `{}`}[what-8]
			if status, _ := s.weather(setting); status != http.StatusNoContent {
				t.Fatalf("the weather %s: %d", setting, status)
			}
		}
	}
	for round := range 150 {
		what := rng.IntN(10)
		change(what)
		known, err := s.client.SnapshotTag(t.Context(), s.scope)
		must(t, err)
		stranger, err := platform.NewClient(s.protocol.URL, "secret")
		must(t, err)
		whole, err := stranger.Snapshot(t.Context(), s.scope)
		if err != nil || !strings.HasPrefix(known, `"`+whole.Fingerprint+"-") {
			t.Fatalf("round %d, change %d: the tag is %s, the fingerprint %s (%v)", round, what, known, whole.Fingerprint, err)
		}
		if _, err := s.client.Put(t.Context(), elsewhere, "logs/f",
			platform.Change{Key: fmt.Sprint("e", round), Attributes: map[string]any{"retention": float64(86_400_000 + round)},
				Version: 1}); err != nil {
			t.Fatal(err)
		}
		if again, err := s.client.SnapshotTag(t.Context(), s.scope); err != nil || again != known {
			t.Fatalf("round %d: what was put elsewhere moves it: %v", round, err)
		}
	}
}
