package engine

import (
	"context"
	"encoding/json"
	"fmt"

	"rudmar/core/delivery"
	"rudmar/engine/deliver"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// StandingOf gives what a hook asks to tell how a version goes on: how it stands in
// its stages, and what each waits for. It reads what was written down, and judges
// nothing.
func StandingOf(s *store.Store) func(ctx context.Context, service string, version int) ([]source.Stand, error) {
	return func(ctx context.Context, service string, version int) ([]source.Stand, error) {
		rows, err := s.DeliveriesOf(ctx, service, version)
		if err != nil {
			return nil, err
		}
		judged, err := s.Judgements(ctx, service, version)
		if err != nil {
			return nil, err
		}
		gates := map[string]deliver.Judged{}
		for _, j := range judged {
			var v deliver.Judged
			if err := json.Unmarshal([]byte(j.Body), &v); err != nil {
				return nil, fmt.Errorf("reading how version %d was judged for %s: %w", version, j.Stage, err)
			}
			gates[j.Stage] = v
		}
		var out []source.Stand
		for _, d := range rows {
			stand := source.Stand{Stage: d.Stage, State: string(d.State), Why: d.Why,
				Rests: delivery.Over(d.State) || d.State == delivery.Stopped}
			if j, ok := gates[d.Stage]; ok && d.State == delivery.Waiting {
				stand.Rests = !delivery.AllHold(j.Gates)
				stand.Why = firstOpen(j.Gates)
			}
			out = append(out, stand)
		}
		return out, nil
	}
}

// firstOpen says what the first gate that does not hold waits for.
func firstOpen(gates []delivery.Gate) string {
	for _, g := range gates {
		if !delivery.AllHold([]delivery.Gate{g}) {
			return g.Why
		}
	}
	return ""
}
