package deliver

import (
	"context"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"rudmar/core/manifest"
	"rudmar/platform"
)

// CaseRun is the outcome of a saved case that somebody ran.
type CaseRun struct {
	manifest.Place
	Function, Name, File string
	Passed               bool
	Found                Found
}

// RunCases runs the saved cases of a service for a stage, in a scope of its target: of one function, or of all
// without a name. Those of one function run one after another, as they can depend on each other. Nothing is
// stored.
func (l *StageLine) RunCases(ctx context.Context, at manifest.Place, scope platform.Scope, service *manifest.Service,
	function string) ([]CaseRun, error) {
	runner, err := l.newCaseRunner(at, scope)
	if err != nil {
		return nil, err
	}
	stage := service.Stage(at.Stage)
	var mu sync.Mutex
	out := []CaseRun{}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(casesAtOnce)
	for _, fn := range service.Functions {
		if function != "" && fn.Name != function {
			continue
		}
		group.Go(func() error {
			for _, c := range fn.Cases {
				if stage != nil && !c.RunsIn(stage) {
					continue
				}
				found, passed, err := runner.run(ctx, fn, c)
				if err != nil {
					return err
				}
				mu.Lock()
				out = append(out, CaseRun{Place: at, Function: fn.Name, Name: c.Name, File: c.File, Passed: passed, Found: found})
				mu.Unlock()
			}
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	slices.SortFunc(out, func(a, b CaseRun) int {
		if a.Function != b.Function {
			return strings.Compare(a.Function, b.Function)
		}
		return strings.Compare(a.File+"\x00"+a.Name, b.File+"\x00"+b.Name)
	})
	return out, nil
}
