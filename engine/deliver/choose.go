package deliver

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"rudmar/core/delivery"
	"rudmar/core/rights"
	"rudmar/engine/store"
)

// ImpactOfSelection returns the present impact of an entry of some functions of a version, and the resulting
// selection: nil if it includes all differences, and without names. The error wraps delivery.ErrSelection if
// the rules of the stage allow no selection, or the names are invalid.
func (l *StageLine) ImpactOfSelection(ctx context.Context, service, stage string, version int,
	functions []string) (*Impact,
	*delivery.Choice, error) {
	whole, err := l.impact(ctx, service, stage, version, nil)
	if err != nil || len(functions) == 0 {
		return whole, nil, err
	}
	entry, err := l.planner.Entry(ctx, service, stage, version)
	if err != nil {
		return nil, nil, err
	}
	if !entry.AllowsPartial() {
		return nil, nil, fmt.Errorf("%w: %s deploys versions as a whole; allow a selection with enter: {allow_partial: true}",
			delivery.ErrSelection, stage)
	}
	own, _, err := l.planner.Service(ctx, service, version)
	if err != nil {
		return nil, nil, err
	}
	of, err := l.planner.DeployedVersions(ctx, service, stage)
	if err != nil {
		return nil, nil, err
	}
	choice, err := delivery.Choose(own, whole.functions(), of, functions)
	if err != nil || choice == nil {
		return whole, nil, err
	}
	m, err := l.impact(ctx, service, stage, version, choice)
	return m, choice, err
}

// functions lists those that entering changes, sorted.
func (m *Impact) functions() []string {
	out := []string{}
	for _, p := range m.plans {
		out = append(out, p.Functions()...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Differing lists the functions of a version that differ from those in a stage.
func (l *StageLine) Differing(ctx context.Context, service, stage string, version int) ([]string, error) {
	whole, err := l.impact(ctx, service, stage, version, nil)
	if err != nil {
		return nil, err
	}
	return whole.functions(), nil
}

// Follow requests the remaining functions of a partially delivered version: they wait for the stage's gates
// again, and stay unchanged until those pass.
func (l *StageLine) Follow(ctx context.Context, service string, version int, stage string, say Command) error {
	if err := May(say.By, rights.Request, service, stage); err != nil {
		return err
	}
	d, err := l.store.Delivery(ctx, service, version, stage)
	if err != nil {
		return store.Missing(err, "version %d in %s", version, stage)
	}
	if d.State != delivery.Settled || d.Choice == nil {
		return fmt.Errorf("version %d is complete in %s: %w", version, stage, delivery.ErrTransition)
	}
	m, err := l.impact(ctx, service, stage, version, nil)
	if err != nil {
		return err
	}
	if err := askable(m, stage, say); err != nil {
		return err
	}
	return l.store.Follow(ctx, d, say.By.Username)
}

// mergeSelection keeps the unselected functions of a waiting version at their present versions in the stage:
// another version may have entered since the selection.
func (l *StageLine) mergeSelection(ctx context.Context, d store.Delivery) (store.Delivery, error) {
	if d.Choice == nil || d.Rest {
		return d, nil
	}
	own, _, err := l.planner.Service(ctx, d.Service, d.Version)
	if err != nil {
		return d, err
	}
	of, err := l.planner.DeployedVersions(ctx, d.Service, d.Stage)
	if err != nil {
		return d, err
	}
	now := d.Choice.Beside(own, of)
	if maps.Equal(now.Kept, d.Choice.Kept) {
		return d, nil
	}
	if err := l.store.UpdateChoice(ctx, d, now); err != nil {
		return d, err
	}
	d.Choice = now
	return d, nil
}

// Excluded lists the functions that stayed at another version in a stage when the version entered with a
// selection, though the version changes them.
func (l *StageLine) Excluded(ctx context.Context, d store.Delivery) ([]string, error) {
	out := []string{}
	if d.Choice == nil {
		return out, nil
	}
	own, _, err := l.planner.Service(ctx, d.Service, d.Version)
	if err != nil {
		return nil, err
	}
	last, err := l.store.LastChanged(ctx, d.Service, d.Version)
	if err != nil {
		return nil, err
	}
	for name, kept := range d.Choice.Kept {
		if there := own.Function(name) != nil; there && last[name] > kept || !there && kept > 0 {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out, nil
}

// AllowsPartial reports whether a delivery request for a version in a stage can select functions.
func (l *StageLine) AllowsPartial(ctx context.Context, d store.Delivery) bool {
	entry, err := l.planner.Entry(ctx, d.Service, d.Stage, d.Version)
	return err == nil && d.State == delivery.Waiting && !d.Rest && entry.AllowsPartial()
}
