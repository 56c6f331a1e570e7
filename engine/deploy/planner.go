// Package deploy makes plans against what is live, and runs them: step by
// step, with its intent written down before and its outcome after.
package deploy

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"rudmar/core/check"
	"rudmar/core/delivery"
	"rudmar/core/expand"
	"rudmar/core/manifest"
	"rudmar/core/pack"
	"rudmar/core/plan"
	"rudmar/core/tree"
	"rudmar/engine/store"
	"rudmar/platform"
	"rudmar/platform/api"
)

// Errors of plans.
var (
	ErrNoTarget = errors.New("no such stage or target")
	ErrPlatform = errors.New("no platform of that name is connected")
)

// Secrets opens the secrets of a stage.
type Secrets func(ctx context.Context, service, stage string) (map[string]string, error)

// Planner makes plans.
type Planner struct {
	store     *store.Store
	platforms map[string]*platform.Client
	secrets   Secrets

	mu     sync.Mutex
	key    []byte                       // of the fingerprints of secrets
	parsed map[string]*manifest.Service // by the content of a version
}

// NewPlanner makes a planner over the platforms that are connected, by name.
func NewPlanner(s *store.Store, platforms map[string]*platform.Client, secrets Secrets, key []byte) *Planner {
	return &Planner{store: s, platforms: platforms, secrets: secrets, key: key, parsed: map[string]*manifest.Service{}}
}

// Platform gives the client of a target, and the scope of a stage there.
func (p *Planner) Platform(at manifest.Place) (*platform.Client, platform.Scope, error) {
	c := p.platforms[at.Target.Platform]
	if c == nil {
		return nil, platform.Scope{}, fmt.Errorf("%w: %s", ErrPlatform, at.Target.Platform)
	}
	return c, platform.Scope{Region: at.Target.Region, Service: at.Service, Stage: at.Stage}, nil
}

// Service gives the manifests of a version.
func (p *Planner) Service(ctx context.Context, service string, version int) (*manifest.Service, store.Version, error) {
	v, err := p.store.Version(ctx, service, version)
	if err != nil {
		return nil, v, fmt.Errorf("version %d of %s: %w", version, service, err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if s := p.parsed[v.Content]; s != nil {
		return s, v, nil
	}
	if len(v.Manifests) == 0 { // the version takes the service away
		return &manifest.Service{Name: service}, v, nil
	}
	result := check.Service(manifest.FilesOf(v.Manifests))
	if result.Service == nil {
		return nil, v, fmt.Errorf("version %d of %s cannot be read by this Rudmar", version, service)
	}
	if len(p.parsed) > 200 {
		clear(p.parsed)
	}
	p.parsed[v.Content] = result.Service
	return result.Service, v, nil
}

// Entry gives what a version has to meet to enter a stage.
func (p *Planner) Entry(ctx context.Context, service, stage string, version int) (delivery.Entry, error) {
	var e delivery.Entry
	own, _, err := p.Service(ctx, service, version)
	if err != nil {
		return e, err
	}
	e.Own = own.Stage(stage)
	standing, err := p.store.Standing(ctx, service)
	if err != nil || standing[stage] == 0 {
		return e, err
	}
	there, _, err := p.Service(ctx, service, standing[stage])
	if err != nil {
		return e, err
	}
	e.Standing = there.Stage(stage)
	return e, nil
}

// Undeclared gives the rules that stand in stages which a version does not declare,
// by stage: something of the service runs there.
func (p *Planner) Undeclared(ctx context.Context, service string,
	own *manifest.Service) (map[string]*manifest.Stage, error) {
	standing, err := p.store.Standing(ctx, service)
	if err != nil {
		return nil, err
	}
	out := map[string]*manifest.Stage{}
	for stage, version := range standing {
		if own != nil && own.Stage(stage) != nil {
			continue
		}
		there, _, err := p.Service(ctx, service, version)
		if err != nil {
			return nil, err
		}
		out[stage] = there.Stage(stage)
	}
	return out, nil
}

// Stages gives the stages that a version with these manifests is to enter, and
// those that it takes away: something runs there that it does not declare.
func (p *Planner) Stages(ctx context.Context, service string, own *manifest.Service) (enters,
	removes []string, err error) {
	left, err := p.Undeclared(ctx, service, own)
	if err != nil {
		return nil, nil, err
	}
	for _, stage := range delivery.Stages(own.Stages, left) {
		if own.Stage(stage.Name) != nil {
			enters = append(enters, stage.Name)
		} else {
			removes = append(removes, stage.Name)
		}
	}
	return enters, removes, nil
}

// Targets lists where a version enters a stage: the targets that it declares,
// and those where something was put that it no longer declares.
func (p *Planner) Targets(ctx context.Context, service, stage string, version int) ([]manifest.Target, error) {
	own, _, err := p.Service(ctx, service, version)
	if err != nil {
		return nil, err
	}
	var targets []manifest.Target
	if s := own.Stage(stage); s != nil {
		targets = slices.Clone(s.Targets)
	}
	places, err := p.store.Stages(ctx, service)
	for _, at := range places {
		if at.Stage == stage && !slices.Contains(targets, at.Target) {
			targets = append(targets, at.Target)
		}
	}
	return targets, err
}

// Wanted gives the resources that a version becomes in a place: none where it no
// longer declares the place, and something was put there.
func (p *Planner) Wanted(ctx context.Context, place manifest.Place, version int, kinds api.Kinds) ([]expand.Resource,
	[]expand.Problem, error) {
	service, _, err := p.Service(ctx, place.Service, version)
	if err != nil {
		return nil, nil, err
	}
	stage := service.Stage(place.Stage)
	target := place.Target
	if stage == nil || !slices.Contains(stage.Targets, target) {
		if there, err := p.store.Stage(ctx, place); err != nil || there.Serial > 0 {
			return nil, nil, err
		}
		return nil, nil, fmt.Errorf("%w: version %d has no stage %s on %s", ErrNoTarget, version, place.Stage, place.Target)
	}
	functions, err := p.store.VersionFunctions(ctx, place.Service, version)
	if err != nil {
		return nil, nil, err
	}
	secrets, err := p.secrets(ctx, place.Service, place.Stage)
	if err != nil {
		return nil, nil, err
	}
	in := expand.Inputs{Version: version, Artifacts: map[string]string{}, Secrets: secrets, Key: p.key,
		Address: platform.RoutesAt(kinds, platform.Scope{Region: target.Region, Service: place.Service, Stage: place.Stage})}
	for _, f := range functions {
		in.Artifacts[f.Function] = f.Digest
	}
	resources, problems := expand.Expand(service, stage, target, in)
	return resources, problems, nil
}

// Compute makes the plan that takes a place to a version.
func (p *Planner) Compute(ctx context.Context, place manifest.Place, version int) (*plan.Plan, error) {
	client, scope, err := p.Platform(place)
	if err != nil {
		return nil, err
	}
	kinds, err := client.Kinds(ctx)
	if err != nil {
		return nil, err
	}
	wanted, problems, err := p.Wanted(ctx, place, version, kinds)
	if err != nil {
		return nil, err
	}
	current, err := p.store.Stage(ctx, place)
	if err != nil {
		return nil, err
	}
	record, err := p.store.Record(ctx, place)
	if err != nil {
		return nil, err
	}
	snapshot, err := client.Snapshot(ctx, scope)
	if err != nil {
		return nil, err
	}
	service, v, err := p.Service(ctx, place.Service, version)
	if err != nil {
		return nil, err
	}
	in := plan.Inputs{
		Base: plan.Base{Place: place, Version: version, From: current.Version,
			Serial: current.Serial, Fingerprint: snapshot.Fingerprint, Commit: v.Hash},
		Wanted: wanted, Live: Live(snapshot), Kinds: Specs(kinds), Quotas: quotas(kinds), Renamed: map[string]string{},
		Renames: kinds.Renames != nil && *kinds.Renames,
	}
	switch stage := service.Stage(place.Stage); {
	case stage == nil:
		in.Left = fmt.Sprintf("version %d no longer declares the stage %s", version, place.Stage)
	case !slices.Contains(stage.Targets, place.Target):
		in.Left = fmt.Sprintf("%s of version %d no longer has the target %s", place.Stage, version, place.Target)
	}
	for _, r := range record {
		in.Record = append(in.Record, r.Recorded)
	}
	for _, fn := range service.Functions {
		if fn.Was != "" {
			in.Renamed[fn.Name] = fn.Was
		}
	}
	entry, err := p.Entry(ctx, place.Service, place.Stage, version)
	if err != nil {
		return nil, err
	}
	in.Rules = entry.RuleChanges()
	for _, problem := range problems {
		from := problem.From
		in.Problems = append(in.Problems, plan.Problem{Message: problem.Message, From: &from})
	}
	in.Problems = append(in.Problems, unknownToPlatform(service, place, kinds)...)
	if in.Usual, err = p.store.UsualTimes(ctx); err != nil {
		return nil, err
	}
	if in.Files, err = p.changedFiles(ctx, place.Service, current.Version, version); err != nil {
		return nil, err
	}
	return plan.Compute(in), nil
}

// unknownToPlatform tells what a service asks for that the target does not have.
func unknownToPlatform(service *manifest.Service, place manifest.Place, kinds api.Kinds) []plan.Problem {
	var out []plan.Problem
	add := func(from tree.Origin, format string, args ...any) {
		out = append(out, plan.Problem{Message: fmt.Sprintf(format, args...), From: &from})
	}
	target := place.Target
	if service.Stage(place.Stage) == nil {
		return nil // nothing is asked for any more
	}
	if !slices.Contains(kinds.Regions, target.Region) {
		add(service.Stage(place.Stage).From, "the platform %s has no region %q; it has %s", target.Platform, target.Region,
			strings.Join(kinds.Regions, ", "))
	}
	verbs := map[string][]string{}
	for _, k := range kinds.Permissions {
		verbs[k.Kind] = k.Verbs
	}
	for _, fn := range service.Functions {
		c := fn.At(place.Stage)
		if !slices.Contains(kinds.Runtimes, c.Runtime.V) {
			add(c.Runtime.From, "%s needs the runtime %s; %s has %s", fn.Name, c.Runtime.V, target,
				strings.Join(kinds.Runtimes, ", "))
		}
		for _, permission := range c.Permissions {
			text, _ := permission.Of.Literal()
			kind, _, _ := strings.Cut(text, "/")
			known, ok := verbs[kind]
			if text == "" || kind == "*" {
				continue
			}
			if !ok {
				add(permission.From, "%s asks for %s; %s has no resources of the kind %q", fn.Name, text, target, kind)
				continue
			}
			for _, verb := range permission.May {
				if verb != "*" && !slices.Contains(known, verb) {
					add(permission.From, "%s may %s %s: the verbs for %s are %s", fn.Name, verb, text, kind, strings.Join(known, ", "))
				}
			}
		}
	}
	return out
}

// changedFiles lists, per function, the files whose bytes differ between two versions.
func (p *Planner) changedFiles(ctx context.Context, service string, from, to int) (map[string][]string, error) {
	out := map[string][]string{}
	if from == 0 || from == to {
		return out, nil
	}
	before, err := p.digests(ctx, service, from)
	if err != nil {
		return nil, err
	}
	after, err := p.digests(ctx, service, to)
	if err != nil {
		return nil, err
	}
	for function, digest := range after {
		if old := before[function]; old == "" || old == digest {
			continue
		}
		a, errA := p.store.Artifact(ctx, before[function])
		b, errB := p.store.Artifact(ctx, digest)
		if err := errors.Join(errA, errB); err != nil {
			return nil, err
		}
		out[function] = differing(a.Listing, b.Listing)
	}
	return out, nil
}

func (p *Planner) digests(ctx context.Context, service string, version int) (map[string]string, error) {
	list, err := p.store.VersionFunctions(ctx, service, version)
	out := map[string]string{}
	for _, f := range list {
		out[f.Function] = f.Digest
	}
	return out, err
}

func differing(a, b pack.Listing) []string {
	sums := map[string]string{}
	for _, f := range a {
		sums[f.Path] = f.SHA256
	}
	var out []string
	for _, f := range b {
		if sums[f.Path] != f.SHA256 {
			out = append(out, f.Path)
		}
		delete(sums, f.Path)
	}
	for gone := range sums {
		out = append(out, gone)
	}
	sort.Strings(out)
	return out
}

// Live turns a snapshot into what plans compare with.
func Live(s api.Snapshot) []plan.Live {
	out := make([]plan.Live, 0, len(s.Resources))
	for _, r := range s.Resources {
		out = append(out, plan.Live{Address: r.Address, Kind: r.Kind, Attributes: r.Attributes, Tag: r.Tag})
	}
	return out
}

// Specs turns what a platform says of its kinds into what plans need.
func Specs(k api.Kinds) []plan.KindSpec {
	out := make([]plan.KindSpec, 0, len(k.Kinds))
	for _, kind := range k.Kinds {
		spec := plan.KindSpec{Kind: kind.Kind}
		for _, a := range kind.Attributes {
			s := plan.AttributeSpec{Name: a.Name, InPlace: a.InPlace, Computed: a.Computed != nil && *a.Computed}
			if a.Unit != nil {
				s.Unit = string(*a.Unit)
			}
			spec.Attributes = append(spec.Attributes, s)
		}
		out = append(out, spec)
	}
	return out
}

func quotas(k api.Kinds) []plan.Quota {
	out := make([]plan.Quota, len(k.Quotas))
	for i, q := range k.Quotas {
		out[i] = plan.Quota{Kind: q.Kind, PerFunction: q.Per == api.QuotaPerFunction, Limit: q.Limit}
	}
	return out
}

// looking is how long a look at a place may take.
const looking = 10 * time.Second

// Stamp gives a text that changes with what is recorded at a place and with what
// is live there; "" where the platform does not tell whether something changed.
func (p *Planner) Stamp(ctx context.Context, place manifest.Place) (string, error) {
	there, err := p.store.Stage(ctx, place)
	if err != nil {
		return "", err
	}
	client, scope, err := p.Platform(place)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, looking)
	defer cancel()
	tag, err := client.SnapshotTag(ctx, scope)
	if err != nil || tag == "" {
		return "", err
	}
	return fmt.Sprint(there.Serial, " ", tag), nil
}

// Drift looks at a place: what is live otherwise than recorded.
func (p *Planner) Drift(ctx context.Context, place manifest.Place) ([]plan.Drifted, error) {
	client, scope, err := p.Platform(place)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, looking)
	defer cancel()
	kinds, err := client.Kinds(ctx)
	if err != nil {
		return nil, err
	}
	snapshot, err := client.Snapshot(ctx, scope)
	if err != nil {
		return nil, err
	}
	rows, err := p.store.Record(ctx, place)
	if err != nil {
		return nil, err
	}
	record := make([]plan.Recorded, 0, len(rows))
	for _, r := range rows {
		record = append(record, r.Recorded)
	}
	return plan.Drift(record, Live(snapshot), Specs(kinds)), nil
}

// Platforms gives the platforms that are connected, by name.
func (p *Planner) Platforms() map[string]*platform.Client { return p.platforms }
