// Package branches computes what a branch that no stage deploys from would change if it were
// merged.
package branches

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"rudmar/core/check"
	"rudmar/core/language"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/engine/deploy"
	"rudmar/engine/rest"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// Intervals and limits of processing pushes.
const (
	planFor   = 20 * time.Second
	lookEvery = 10 * time.Second
	longest   = 5 * time.Minute
	worst     = 3 // impacts named in a notification
)

// ErrNothing reports that there is nothing to compare a branch with.
var ErrNothing = errors.New("there is no version to compare with yet; push a commit to the branch of the first stage")

// Planner plans branches.
type Planner struct {
	store      *store.Store
	planner    *deploy.Planner
	repository func(name string) source.Repository
	check      func(ctx context.Context, service string, folder manifest.Folder) check.Result
	log        *slog.Logger
	rests      *rest.Rests[int64]
}

// Config has the dependencies of a planner.
type Config struct {
	Store      *store.Store
	Planner    *deploy.Planner
	Repository func(name string) source.Repository
	Check      func(ctx context.Context, service string, folder manifest.Folder) check.Result
	Log        *slog.Logger
}

// New creates a planner.
func New(c Config) *Planner {
	return &Planner{store: c.Store, planner: c.Planner, repository: c.Repository, check: c.Check, log: c.Log,
		rests: rest.New[int64](longest)}
}

// Folder is a service's folder in git, possibly with edited files, which have no stamp.
type Folder interface {
	manifest.Folder
	manifest.Stamped
}

// DraftPlan computes the plan of a service's folder at a place, compared with its newest version. The error
// wraps ErrNothing if there is none.
func (p *Planner) DraftPlan(ctx context.Context, place manifest.Place, service *manifest.Service,
	folder Folder) (*plan.Plan, error) {
	newest, err := p.store.NewestVersion(ctx, place.Service)
	if err != nil {
		return nil, err
	}
	if newest == 0 {
		return nil, ErrNothing
	}
	version, err := p.store.Version(ctx, place.Service, newest)
	if err != nil {
		return nil, err
	}
	code, err := p.differing(ctx, service, folder, version)
	if err != nil {
		return nil, err
	}
	return p.planner.DraftPlan(ctx, deploy.Draft{Place: place, Version: newest, Service: service, Code: code})
}

// differing returns, per function of a service in a folder, the code files that differ from a version.
func (p *Planner) differing(ctx context.Context, service *manifest.Service, folder Folder,
	version store.Version) (map[string][]string, error) {
	of, err := p.store.Service(ctx, service.Name)
	if err != nil {
		return nil, err
	}
	before, err := p.repository(of.Repository).Folder(ctx, version.Hash, of.Dir)
	if err != nil {
		return nil, err
	}
	all := slices.Concat(folder.Files(), before.Files())
	slices.Sort(all)
	out := map[string][]string{}
	for _, name := range slices.Compact(all) {
		now := folder.Stamp(name)
		if manifest.IsManifest(name) || now != "" && now == before.Stamp(name) {
			continue
		}
		for _, fn := range service.Functions {
			if strings.HasPrefix(name, fn.Code+"/") {
				out[fn.Name] = append(out[fn.Name], name)
			}
		}
	}
	return out, nil
}

// plan plans a commit of a branch for its first stage, on that stage's first target. Errors in its manifests
// are returned separately, without a plan.
func (p *Planner) plan(ctx context.Context, service, commit string) (*plan.Plan, check.Result, error) {
	ctx, cancel := context.WithTimeout(ctx, planFor)
	defer cancel()
	of, err := p.store.Service(ctx, service)
	if err != nil {
		return nil, check.Result{}, err
	}
	folder, err := p.repository(of.Repository).Folder(ctx, commit, of.Dir)
	if err != nil {
		return nil, check.Result{}, err
	}
	result := p.check(ctx, service, folder)
	if !result.OK() || result.Service == nil || len(result.Service.Stages) == 0 {
		return nil, result, nil
	}
	in := result.Service.Stages[0]
	if len(in.Targets) == 0 {
		return nil, result, fmt.Errorf("%w: %s", deploy.ErrNoTarget, in.Name)
	}
	place := manifest.Place{Service: service, Stage: in.Name, Target: in.Targets[0]}
	sketch, err := p.DraftPlan(ctx, place, result.Service, folder)
	return sketch, result, err
}

// Run computes what pushes would change, until the context ends.
func (p *Planner) Run(ctx context.Context) {
	wake, stop := p.store.Listen(store.TopicSource)
	defer stop()
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		list, err := p.store.QueuedBranches(ctx)
		if err != nil && ctx.Err() == nil {
			p.log.Error("planning branches", "error", err)
		}
		for _, b := range list {
			p.report(ctx, b)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-wake:
		}
	}
}

// report computes the plan of one push. If that is not possible now, it retries later.
func (p *Planner) report(ctx context.Context, b store.BranchPlan) {
	if p.rests.Resting(b.ID) {
		return
	}
	sketch, result, err := p.plan(ctx, b.Service, b.Hash)
	stage, text := "", ""
	var says []string
	switch {
	case ctx.Err() != nil:
		return
	case errors.Is(err, ErrNothing), errors.Is(err, store.ErrNotFound), errors.Is(err, source.ErrNoCommit):
		text, err = "there is nothing to compare with yet", nil
	case err != nil:
	case sketch == nil:
		text = "it cannot be planned: " + language.FormatCount(len(result.Diagnostics), "error") + " in its manifests"
		if len(result.Diagnostics) > 0 {
			text += ", the first one: " + result.Diagnostics[0].String()
		}
	default:
		stage, text = sketch.Base.Stage, sketch.Summary()
		for _, s := range sketch.ImpactLines() {
			if len(says) < worst {
				says = append(says, s.Text)
			}
		}
		if len(says) > 0 {
			text += " " + strings.Join(says, "; ") + "."
		}
	}
	if err == nil {
		err = p.store.EndBranchPlan(ctx, b, stage, text, append([]string{}, says...))
	}
	p.rests.Ended(b.ID, err)
	if err != nil && ctx.Err() == nil {
		p.log.Warn("planning a branch", "service", b.Service, "branch", b.Branch, "error", err)
	}
}
