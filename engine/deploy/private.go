package deploy

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"strings"
	"unicode"

	"rudmar/core/expand"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/resource"
	"rudmar/platform"
)

// Private is the desired content of somebody's private copy of a stage. It is not in a version, nothing is
// recorded of it, and it has a scope of its own: the stage of versions is never changed.
type Private struct {
	Place     manifest.Place    // the stage whose settings it has
	Owner     string            // a username
	Service   *manifest.Service // nil to delete it
	Artifacts map[string]string // function → digest
	// Secrets reports whether the owner can use the stage's secrets: then the copy receives them. Otherwise it receives
	// texts of the same form.
	Secrets bool
	// Open opens the copy's routes to those that the manifests name; otherwise only its owner can call them.
	Open bool
}

// OwnerGroup is the group of callers to which the routes of a private copy are open: no group of a manifest has a ~ in
// its name.
func (c Private) OwnerGroup() string { return "~" + c.Owner }

// sameForm returns a text of the form of another one: letters, digits and signs in the same places.
func sameForm(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case unicode.IsDigit(r):
			return '0'
		case unicode.IsUpper(r):
			return 'X'
		case unicode.IsLetter(r):
			return 'x'
		}
		return r
	}, text)
}

// Scope returns the scope of a private copy: no stage has a ~ in its name.
func (c Private) Scope() platform.Scope {
	return platform.Scope{Region: c.Place.Target.Region, Service: c.Place.Service, Stage: c.Place.Stage + "~" + c.Owner}
}

// ErrPrivate reports that a private copy could not be deployed.
var ErrPrivate = errors.New("the copy could not be deployed")

// privateTries is how often a copy is planned and deployed: it is compared with the actual state, so a second
// attempt does the remaining work.
const privateTries = 4

// Privately deploys a private copy, and returns the executed steps. Blockers, such as a quota, wrap ErrPrivate.
func (r *Runner) Privately(ctx context.Context, c Private) ([]plan.Step, error) {
	var done []plan.Step
	var last error
	for range privateTries {
		p, x, err := r.privatePlan(ctx, c)
		if err != nil {
			return done, err
		}
		if len(p.Blockers) > 0 {
			return done, fmt.Errorf("%w: %s", ErrPrivate, p.Blockers[0].Message)
		}
		if len(p.Steps) == 0 {
			return done, nil
		}
		ran, err := x.workUnrecorded(ctx)
		done = append(done, ran...)
		if err == nil {
			return done, nil
		}
		if last = fmt.Errorf("%w: %w", ErrPrivate, err); len(ran) == 0 || ctx.Err() != nil {
			break
		}
	}
	return done, last
}

// privatePlan plans a private copy against the actual state of it.
func (r *Runner) privatePlan(ctx context.Context, c Private) (*plan.Plan, *execution, error) {
	client, _, err := r.planner.Platform(c.Place)
	if err != nil {
		return nil, nil, err
	}
	kinds, err := client.Kinds(ctx)
	if err != nil {
		return nil, nil, err
	}
	snapshot, err := client.Snapshot(ctx, c.Scope())
	if err != nil {
		return nil, nil, err
	}
	place := c.Place
	place.Stage = c.Scope().Stage
	in := plan.Inputs{Base: plan.Base{Place: place, Fingerprint: snapshot.Fingerprint}, Actual: Actual(snapshot),
		Kinds: Specs(kinds), Quotas: quotas(kinds), Renamed: map[string]string{}}
	for _, l := range in.Actual { // all actual resources there belong to the copy: nobody else has the scope
		in.Record = append(in.Record, plan.Recorded{Address: l.Address, Kind: l.Kind,
			Function: resource.FunctionOf(l.Address), Attributes: settable(in.Kinds, l)})
	}
	x := &execution{Runner: r, client: client, scope: c.Scope(), going: ctx, secrets: map[string]map[string]string{}}
	if c.Service != nil {
		if err := r.desiredCopy(ctx, c, &in, platform.RoutesAt(kinds, c.Scope())); err != nil {
			return nil, nil, err
		}
	}
	for _, w := range in.Wanted {
		if len(w.Secrets) > 0 {
			x.secrets[w.Address] = w.Secrets
		}
	}
	x.plan = plan.Compute(in)
	return x.plan, x, nil
}

// settable returns a resource's attributes without computed ones.
func settable(kinds []plan.KindSpec, l plan.Actual) map[string]any {
	out := maps.Clone(l.Attributes)
	for _, k := range kinds {
		for _, a := range k.Attributes {
			if k.Kind == l.Kind && a.Computed {
				delete(out, a.Name)
			}
		}
	}
	return out
}

// desiredCopy adds the desired resources of the copy: those of the stage, in another scope.
func (r *Runner) desiredCopy(ctx context.Context, c Private, in *plan.Inputs, address string) error {
	stage := c.Service.Stage(c.Place.Stage)
	if stage == nil {
		return fmt.Errorf("%w: no stage %s", ErrNoTarget, c.Place.Stage)
	}
	secrets, err := r.planner.secrets(ctx, c.Place.Service, c.Place.Stage)
	if err != nil {
		return err
	}
	for name, value := range secrets {
		if !c.Secrets {
			secrets[name] = sameForm(value)
		}
	}
	for _, name := range c.Service.Secrets {
		if _, has := secrets[name]; !has {
			secrets[name] = ""
		}
	}
	resources, problems := expand.Expand(c.Service, stage, c.Place.Target,
		expand.Inputs{Artifacts: c.Artifacts, Secrets: secrets, Key: r.planner.key, Address: address})
	in.Wanted = resources
	for i := range resources {
		if resources[i].Kind != resource.Opening || c.Open {
			continue
		}
		for k := range resources[i].Attributes {
			if resources[i].Attributes[k].Name == "to" {
				resources[i].Attributes[k].Value = []any{c.OwnerGroup()}
			}
		}
	}
	for _, p := range problems {
		from := p.From
		in.Blockers = append(in.Blockers, plan.Blocker{Message: p.Message, From: &from})
	}
	return nil
}

// sent is the outcome of a step of which nothing is written down.
type sent struct {
	step int
	err  error
}

// workUnrecorded executes the steps of a plan without records, in the order of their dependencies. It returns
// the executed steps, and the first error.
func (x *execution) workUnrecorded(ctx context.Context) (done []plan.Step, first error) {
	b := make([]byte, 8)
	_, _ = rand.Read(b) // documented never to fail
	run := hex.EncodeToString(b)
	results := make(chan sent)
	queue := plan.NewQueue(x.plan.Steps, func(int) bool { return false })
	for inFlight := 0; ; {
		for inFlight < plan.Parallelism && ctx.Err() == nil {
			i, ok := queue.Next()
			if !ok {
				break
			}
			inFlight++
			go func() {
				_, err := RetryUnavailable(ctx, func() (map[string]any, error) {
					return x.send(ctx, &x.plan.Steps[i], fmt.Sprintf("private-%s-%d", run, i))
				})
				results <- sent{i, err}
			}()
		}
		if inFlight == 0 {
			return done, errors.Join(first, ctx.Err())
		}
		r := <-results
		inFlight--
		if r.err == nil {
			done = append(done, x.plan.Steps[r.step])
			queue.Done(r.step)
		} else if first == nil {
			first = fmt.Errorf("%s: %w", x.plan.Steps[r.step].Address, r.err)
		}
	}
}
