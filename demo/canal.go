package demo

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/engine"
)

// The second repository of the demo, whose only service uses traffic shifts.
const (
	canalRepository = "canal"
	canalService    = "watering"
)

// canal builds the second service: a version that rolled back automatically, since some of its invocations
// failed, and one in the middle of its shift.
func (b *builder) canal(ctx context.Context) error {
	if err := b.begin(ctx); err != nil {
		return err
	}
	defer os.RemoveAll(b.dir)
	dice := rand.New(rand.NewPCG(5, 13))
	for version, c := range []commit{
		{"01-rows", "sorrel", "Open valves by row", 12, nil, false},
		{"02-soil", "wren", "Check the soil before a valve opens", 1, nil, false},
		{"03-dry", "wren", "Treat a silent probe as dry", 0.1, nil, false},
	} {
		if err := b.push(ctx, "canal/"+c.step, c); err != nil {
			return err
		}
		if err := b.settled(ctx, version+1, "trial"); err != nil {
			return err
		}
		want := []delivery.State{delivery.Settled, delivery.RolledBack, delivery.Shifting}[version]
		if err := b.reaches(ctx, version+1, "live", want, func() error {
			if version == 0 {
				return nil
			}
			return b.openValves(ctx, dice, 12)
		}); err != nil {
			return err
		}
		if err := b.openValves(ctx, dice, 150); err != nil {
			return err
		}
	}
	return nil
}

// openValves invokes the service as its users do; some of these invocations fail on purpose.
func (b *builder) openValves(ctx context.Context, dice *rand.Rand, times int) error {
	at := manifest.Place{Service: b.service, Stage: "live", Target: manifest.ParseTarget("local/coast")}
	routes, err := b.routes(ctx, at, "route/valve/open", "/rows/{row}/valve")
	if err != nil {
		return nil //nolint:nilerr // it is not there yet
	}
	for range times {
		row := 1 + dice.IntN(8)
		if err := send(ctx, http.MethodPost, fmt.Sprintf("%s/rows/%d/valve", routes, row), "{}"); err != nil {
			return err
		}
	}
	return nil
}

// playEvery is the interval between invocations while the demo runs.
const playEvery = 5 * time.Second

// Play continues the traffic of the demo until the context ends, so a shift has data.
func Play(ctx context.Context, e *engine.Engine) {
	b := &builder{Options: Options{Engine: e}, service: canalService}
	dice := rand.New(rand.NewPCG(17, 19))
	tick := time.NewTicker(playEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := b.openValves(ctx, dice, 1); err != nil && !errors.Is(err, ctx.Err()) {
				continue // the result reports failed invocations; the next one comes soon
			}
		}
	}
}
