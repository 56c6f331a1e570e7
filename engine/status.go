package engine

import (
	"context"

	"rudmar/core/delivery"
	"rudmar/engine/deliver"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// VersionStatus returns the state of a version in its stages, and what each is waiting for, for a hook after a
// push. It reads stored results, and evaluates nothing.
func VersionStatus(s *store.Store) func(ctx context.Context, service string, version int) (
	[]source.StageStatus, error) {
	return func(ctx context.Context, service string, version int) ([]source.StageStatus, error) {
		rows, err := s.DeliveriesOf(ctx, service, version)
		if err != nil {
			return nil, err
		}
		judged, err := deliver.ReadGateResults(ctx, s, service, version)
		if err != nil {
			return nil, err
		}
		var out []source.StageStatus
		for _, d := range rows {
			stand := source.StageStatus{Stage: d.Stage, State: string(d.State), Reason: d.Reason,
				Rests: delivery.Over(d.State) || d.State == delivery.Failed}
			if j, ok := judged[deliver.Key{Version: version, Stage: d.Stage}]; ok && d.State == delivery.Waiting {
				stand.Rests = !delivery.AllPassed(j.Gates)
				stand.Reason = firstOpen(j.Gates)
			}
			out = append(out, stand)
		}
		return out, nil
	}
}

// firstOpen returns what the first gate that has not passed is waiting for.
func firstOpen(gates []delivery.Gate) string {
	for _, g := range gates {
		if !g.Passed() {
			return g.Reason
		}
	}
	return ""
}
