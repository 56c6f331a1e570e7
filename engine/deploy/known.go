package deploy

import (
	"context"
	"fmt"

	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/engine/store"
	"rudmar/platform"
)

// planCache stores the last read state of a place: repeated plans, as during typing, do not read it again if
// nothing has changed.
type planCache struct {
	stage  store.Stage // the record's scope: its serial increases with each step
	record []plan.Recorded
	tag    string // of the snapshot
	actual []plan.Actual
	print  string // the snapshot's fingerprint
}

// knownPlaces is how many places are remembered.
const knownPlaces = 32

// recordOf returns the record of a place, which is of that serial. It is not to be changed.
func (p *Planner) recordOf(ctx context.Context, at store.Stage) ([]plan.Recorded, error) {
	before, _ := p.places.Get(at.Place)
	if before.record != nil && same(before.stage, at) {
		return before.record, nil
	}
	rows, err := p.store.Record(ctx, at.Place)
	if err != nil {
		return nil, err
	}
	record := make([]plan.Recorded, 0, len(rows))
	for _, r := range rows {
		record = append(record, r.Recorded)
	}
	// It is cached only if its serial is current: a step may have ended meanwhile.
	if now, err := p.store.Stage(ctx, at.Place); err != nil || !same(now, at) {
		return record, err
	}
	p.remember(at.Place, func(k *planCache) { k.stage, k.record = at, record })
	return record, nil
}

func same(a, b store.Stage) bool {
	return a.Place == b.Place && a.Serial == b.Serial && a.Version == b.Version && a.Since.Equal(b.Since)
}

// liveOf returns the actual state at a place, and its fingerprint. It is not to be changed.
func (p *Planner) liveOf(ctx context.Context, client *platform.Client, scope platform.Scope,
	place manifest.Place) ([]plan.Actual, string, error) {
	tag, err := client.SnapshotTag(ctx, scope)
	if err != nil {
		return nil, "", err
	}
	before, _ := p.places.Get(place)
	if tag != "" && tag == before.tag && before.actual != nil {
		return before.actual, before.print, nil
	}
	snapshot, err := client.Snapshot(ctx, scope)
	if err != nil {
		return nil, "", err
	}
	actual := Actual(snapshot)
	if tag == fmt.Sprintf("%q", snapshot.Fingerprint) { // no change between the two
		p.remember(place, func(k *planCache) { k.tag, k.actual, k.print = tag, actual, snapshot.Fingerprint })
	}
	return actual, snapshot.Fingerprint, nil
}

func (p *Planner) remember(place manifest.Place, put func(k *planCache)) {
	p.mu.Lock()
	defer p.mu.Unlock()
	k, _ := p.places.Get(place)
	put(&k)
	p.places.Add(place, k)
}
