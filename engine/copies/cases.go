package copies

import (
	"context"

	"rudmar/core/expression"
	"rudmar/engine/deliver"
	"rudmar/engine/deploy"
)

// CaseRun is what came of a saved case in a copy.
type CaseRun struct {
	Function, Name, File string
	Passed               bool
	Found                deliver.Found
}

// Cases runs the saved cases of a copy's folder that run in its stage, one after
// another: of one function, or of all.
func (k *Keeper) Cases(ctx context.Context, c deploy.Private, function string) ([]CaseRun, error) {
	language, err := expression.ForCases()
	if err != nil {
		return nil, err
	}
	out := []CaseRun{}
	if c.Service == nil {
		return out, nil
	}
	stage := c.Service.Stage(c.Place.Stage)
	for _, fn := range c.Service.Functions {
		if function != "" && fn.Name != function {
			continue
		}
		for _, one := range fn.Cases {
			if stage != nil && !one.RunsIn(stage) {
				continue
			}
			found, passed, err := k.line.RunCase(ctx, c.Scope(), c.Place, fn, one, language)
			if err != nil {
				return out, err
			}
			out = append(out, CaseRun{Function: fn.Name, Name: one.Name, File: one.File, Passed: passed, Found: found})
		}
	}
	return out, nil
}
