package copies

import (
	"context"

	"rudmar/engine/deliver"
	"rudmar/engine/deploy"
)

// Cases runs the saved cases of a copy's folder that run in its stage: of one
// function, or of all.
func (k *Keeper) Cases(ctx context.Context, c deploy.Private, function string) ([]deliver.CaseRun, error) {
	if c.Service == nil {
		return []deliver.CaseRun{}, nil
	}
	return k.line.RunCases(ctx, c.Place, c.Scope(), c.Service, function)
}
