package demo

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"time"

	"rudmar/core/manifest"
)

// traffic plays invocations from a seed, with one change outside Rudmar.
func (b *builder) traffic(ctx context.Context) error {
	dice := rand.New(rand.NewPCG(7, 11))
	stations := []string{"hill", "weir", "orchard-gate"}
	for _, stage := range []string{"trial", "preview", "live"} {
		at := manifest.Place{Service: Service, Stage: stage, Target: manifest.ParseTarget("local/north")}
		routes, err := b.routes(ctx, at, "route/stations/list", "/stations")
		if err != nil {
			return err
		}
		for range 12 {
			station := stations[dice.IntN(len(stations))]
			for _, call := range []struct{ method, path, body string }{
				{http.MethodPut, "/stations/" + station + "/reading", fmt.Sprintf(`{"celsius": %.1f}`, least(station)+dice.Float64()*6)},
				{http.MethodGet, "/stations/" + station + "/frost", ""},
				{http.MethodGet, "/stations", ""},
			} {
				if err := send(ctx, call.method, routes+call.path, call.body); err != nil {
					return err
				}
			}
		}
		// The newest report requests a denied resource.
		client, scope, err := b.Engine.Planner.Platform(at)
		if err != nil {
			return err
		}
		if _, err := client.Invoke(ctx, scope, "night-report", "morning", "",
			map[string]any{"data": map[string]any{"schedule": "morning"}}, time.Minute); err != nil {
			return err
		}
	}
	// An urgent change at night.
	return b.Change(ctx, "north/"+Service+"/live", "function/warn",
		map[string]any{"memory": 256 << 20, "env.MODE": "quiet"})
}

// routes returns the base address of a stage's routes, from the address of one route and its path.
func (b *builder) routes(ctx context.Context, at manifest.Place, address, path string) (string, error) {
	record, err := b.Engine.Store.Record(ctx, at)
	if err != nil {
		return "", err
	}
	for _, r := range record {
		if url, ok := r.Platform["url"].(string); ok && r.Address == address {
			return strings.TrimSuffix(url, path), nil
		}
	}
	return "", fmt.Errorf("%s has no route to call", at.Stage)
}

func send(ctx context.Context, method, address, body string) error {
	r, err := http.NewRequestWithContext(ctx, method, address, strings.NewReader(body))
	if err != nil {
		return err
	}
	r.Header.Set("Content-Type", "application/json")
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		return err
	}
	return response.Body.Close()
}

// least is the lowest temperature of a station: the hill has mild nights, as its saved case expects.
func least(station string) float64 {
	if station == "hill" {
		return 2
	}
	return -1
}
