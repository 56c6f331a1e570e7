// Package deploy computes plans against the actual state and runs them step by step: it stores the
// intent of a step before it is sent and its outcome afterward.
package deploy

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"rudmar/core/check"
	"rudmar/core/delivery"
	"rudmar/core/expand"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/engine/recent"
	"rudmar/engine/store"
	"rudmar/platform"
	"rudmar/platform/api"
)

// Errors of plans.
var (
	ErrNoTarget = errors.New("unknown stage or target")
	ErrPlatform = errors.New("no platform of that name is connected")
)

// Secrets opens the secrets of a stage.
type Secrets func(ctx context.Context, service, stage string) (map[string]string, error)

// Planner computes plans.
type Planner struct {
	store     *store.Store
	platforms map[string]*platform.Client
	secrets   Secrets

	versions *recent.Cache[string, version] // by service and number

	sums   *recent.Cache[manifest.Place, sums] // recent observations
	places *recent.Cache[manifest.Place, planCache]

	mu  sync.Mutex
	key []byte // the key of the fingerprints of secrets

	became expand.Cache // of edits, which differ little from each other
}

// knownVersions is how many versions are remembered.
const knownVersions = 64

// NewPlanner creates a planner for the connected platforms, by name.
func NewPlanner(s *store.Store, platforms map[string]*platform.Client, secrets Secrets, key []byte) *Planner {
	return &Planner{store: s, platforms: platforms, secrets: secrets, key: key,
		versions: recent.New[string, version](knownVersions), sums: recent.New[manifest.Place, sums](seenPlaces),
		places: recent.New[manifest.Place, planCache](knownPlaces)}
}

// Platform returns the client of a target, and the scope of a stage there.
func (p *Planner) Platform(at manifest.Place) (*platform.Client, platform.Scope, error) {
	c := p.platforms[at.Target.Platform]
	if c == nil {
		return nil, platform.Scope{}, fmt.Errorf("%w: %s", ErrPlatform, at.Target.Platform)
	}
	return c, platform.Scope{Region: at.Target.Region, Service: at.Service, Stage: at.Stage}, nil
}

// version is a version as it was read: it never changes.
type version struct {
	service *manifest.Service
	store.Version
}

// Service returns the manifests of a version. They are not to be changed.
func (p *Planner) Service(ctx context.Context, service string, number int) (*manifest.Service, store.Version, error) {
	key := fmt.Sprintf("%s/%d", service, number)
	if known, ok := p.versions.Get(key); ok {
		return known.service, known.Version, nil
	}
	v, err := p.store.Version(ctx, service, number)
	if err != nil {
		return nil, v, store.Missing(err, "version %d of %s", number, service)
	}
	read := version{&manifest.Service{Name: service}, v}
	if len(v.Manifests) > 0 { // otherwise the version removes the service
		if read.service = check.Stored(manifest.FilesOf(v.Manifests)); read.service == nil {
			return nil, v, fmt.Errorf("this Rudmar cannot read version %d of %s", number, service)
		}
	}
	p.versions.Add(key, read)
	return read.service, v, nil
}

// Entry returns the rules that a version must meet to enter a stage.
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

// Undeclared returns the standing rules of stages that a version does not declare, by stage: they still have
// resources of the service.
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

// Stages returns the stages that a version with these manifests is to enter, and those that it removes:
// something runs there that it does not declare.
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

// Targets lists the targets of an entry: those that the version declares, and those with resources that it no
// longer declares.
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

// Wanted returns the desired resources of a version in a place: none if it no longer declares a place with
// resources.
func (p *Planner) Wanted(ctx context.Context, place manifest.Place, version int, kinds api.Kinds) ([]expand.Resource,
	[]expand.Problem, error) {
	d, err := p.draftOf(ctx, place, version)
	if err != nil {
		return nil, nil, err
	}
	return p.desired(ctx, d, kinds)
}

// desired returns the resources that manifests become in a place.
func (p *Planner) desired(ctx context.Context, d Draft, kinds api.Kinds) ([]expand.Resource, []expand.Problem, error) {
	place, version := d.Place, d.Version
	stage := d.Service.Stage(place.Stage)
	target := place.Target
	if stage == nil || !slices.Contains(stage.Targets, target) {
		if there, err := p.store.Stage(ctx, place); err != nil || there.Serial > 0 {
			return nil, nil, err
		}
		return nil, nil, fmt.Errorf("%w: version %d has no stage %s on %s", ErrNoTarget, version, place.Stage, place.Target)
	}
	secrets, err := p.secrets(ctx, place.Service, place.Stage)
	if err != nil {
		return nil, nil, err
	}
	becomes := p.whole
	if d.Choice != nil {
		becomes = p.combined
	}
	resources, problems, err := becomes(ctx, d, expand.Inputs{Secrets: secrets, Key: p.key,
		Address: platform.RoutesAt(kinds, platform.Scope{Region: target.Region, Service: place.Service, Stage: place.Stage})})
	if err != nil {
		return nil, nil, err
	}
	steered, err := p.steered(ctx, place, version, resources)
	return steered, problems, err
}

// of returns inputs for a version, with the archives of its functions.
func (p *Planner) of(ctx context.Context, service string, version int, in expand.Inputs) (expand.Inputs, error) {
	functions, err := p.store.VersionFunctions(ctx, service, version)
	if err != nil {
		return in, err
	}
	in.Version, in.Artifacts = version, map[string]string{}
	for _, f := range functions {
		in.Artifacts[f.Function] = f.Digest
	}
	return in, nil
}

// whole returns the resources of all functions of a draft.
func (p *Planner) whole(ctx context.Context, d Draft, in expand.Inputs) ([]expand.Resource, []expand.Problem, error) {
	in, err := p.of(ctx, d.Place.Service, d.Version, in)
	if err != nil {
		return nil, nil, err
	}
	for _, fn := range d.Service.Functions {
		if d.Code != nil && (in.Artifacts[fn.Name] == "" || len(d.Code[fn.Name]) > 0) {
			in.Artifacts[fn.Name] = unbuilt
		}
	}
	var cache *expand.Cache
	if d.Code != nil {
		cache = &p.became
	}
	resources, problems := expand.ExpandAgain(d.Service, d.Service.Stage(d.Place.Stage), d.Place.Target, in, cache)
	return resources, problems, nil
}

// Compute computes the plan that takes a place to a version, with the functions that were requested there.
func (p *Planner) Compute(ctx context.Context, place manifest.Place, version int) (*plan.Plan, error) {
	in, err := p.inputs(ctx, place, version)
	if err != nil {
		return nil, err
	}
	return plan.Compute(in), nil
}

// ComputeChosen is Compute for another selection of functions; nil for all of them.
func (p *Planner) ComputeChosen(ctx context.Context, place manifest.Place, version int,
	choice *delivery.Choice) (*plan.Plan, error) {
	own, _, err := p.Service(ctx, place.Service, version)
	if err != nil {
		return nil, err
	}
	in, err := p.gather(ctx, Draft{Place: place, Version: version, Service: own, Choice: choice})
	if err != nil {
		return nil, err
	}
	return plan.Compute(in), nil
}

// again computes a plan again, with the same request.
func (p *Planner) again(ctx context.Context, old *plan.Plan) (*plan.Plan, error) {
	in, err := p.inputs(ctx, old.Base.Place, old.Base.Version)
	if err != nil {
		return nil, err
	}
	in.Deletions = old.Deletions
	if old.Only != "" {
		onlyPointers(&in)
	}
	return plan.Compute(in), nil
}

// Request is a request for a plan to show.
type Request struct {
	Place   manifest.Place
	Version int
	// Deletions lists the addresses of unmanaged resources to delete.
	Deletions []string
	// Chosen replaces the requested selection of functions; nil to keep it.
	Chosen *Chosen
}

// Chosen is a selection of functions, or all of them.
type Chosen struct{ Choice *delivery.Choice }

// Foresee is Compute with observations of the stage. Without observations the plan has no outlook.
func (p *Planner) Foresee(ctx context.Context, w Request) (*plan.Plan, error) {
	d, err := p.draftOf(ctx, w.Place, w.Version)
	if err != nil {
		return nil, err
	}
	if w.Chosen != nil {
		d.Choice = w.Chosen.Choice
	}
	in, err := p.gather(ctx, d)
	if err != nil {
		return nil, err
	}
	in.Deletions = w.Deletions
	if in.Seen, err = p.seen(ctx, w.Place, d.Service, &in); err != nil {
		return nil, err
	}
	return plan.Compute(in), nil
}

// inputs collects the inputs of a version's plan.
func (p *Planner) inputs(ctx context.Context, place manifest.Place, version int) (in plan.Inputs, err error) {
	d, err := p.draftOf(ctx, place, version)
	if err != nil {
		return in, err
	}
	return p.gather(ctx, d)
}

// gather collects the inputs of a plan.
func (p *Planner) gather(ctx context.Context, d Draft) (in plan.Inputs, err error) {
	place, version, service := d.Place, d.Version, d.Service
	client, scope, err := p.Platform(place)
	if err != nil {
		return in, err
	}
	kinds, err := client.Kinds(ctx)
	if err != nil {
		return in, err
	}
	wanted, problems, err := p.desired(ctx, d, kinds)
	if err != nil {
		return in, err
	}
	current, err := p.store.Stage(ctx, place)
	if err != nil {
		return in, err
	}
	record, err := p.recordOf(ctx, current)
	if err != nil {
		return in, err
	}
	actual, fingerprint, err := p.liveOf(ctx, client, scope, place)
	if err != nil {
		return in, err
	}
	_, v, err := p.Service(ctx, place.Service, version)
	if err != nil {
		return in, err
	}
	in = plan.Inputs{
		Base: plan.Base{Place: place, Version: version, From: current.Version,
			Serial: current.Serial, Fingerprint: fingerprint, Commit: v.Hash},
		Wanted: wanted, Actual: actual, Record: record, Kinds: Specs(kinds), Quotas: quotas(kinds),
		Renamed: map[string]string{},
		Renames: kinds.Renames != nil && *kinds.Renames,
	}
	if !hasTarget(service, place) {
		by, err := p.leftBy(ctx, place, current.Version, version)
		if err != nil {
			return in, err
		}
		if in.Left = fmt.Sprintf("version %d no longer declares the stage %s", by, place.Stage); service.Stage(place.Stage) != nil {
			in.Left = fmt.Sprintf("%s of version %d no longer has the target %s", place.Stage, by, place.Target)
		}
	} else if in.Dropped, err = p.dropped(ctx, d, &in, kinds); err != nil {
		return in, err
	}
	if in.LeftAlone, err = p.store.IgnoredDrift(ctx, place, p.store.Now()); err != nil {
		return in, err
	}
	for _, fn := range service.Functions {
		if fn.RenamedFrom != "" && d.Choice.Enters(fn.Name) {
			in.Renamed[fn.Name] = fn.RenamedFrom
		}
	}
	entry, err := p.Entry(ctx, place.Service, place.Stage, version)
	if err != nil {
		return in, err
	}
	in.Rules = entry.RuleChanges()
	for _, problem := range problems {
		from := problem.From
		in.Blockers = append(in.Blockers, plan.Blocker{Message: problem.Message, From: &from})
	}
	in.Blockers = append(in.Blockers, unknownToPlatform(service, place, kinds)...)
	if in.Usual, err = p.store.UsualTimes(ctx); err != nil {
		return in, err
	}
	in.Files, err = p.changedFiles(ctx, d, current.Version)
	return in, err
}

// looking is the time limit of one read of a place.
const looking = 10 * time.Second

// Stamp returns a text that changes with the record of a place, with its actual state, and with its ignored
// drift; "" if the platform does not report changes.
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
	left, err := p.store.IgnoredDrift(ctx, place, p.store.Now())
	if err != nil {
		return "", err
	}
	return fmt.Sprint(there.Serial, " ", tag, " ", left), nil
}

// Drift compares the actual with the recorded state of a place.
func (p *Planner) Drift(ctx context.Context, place manifest.Place) ([]plan.Drift, error) {
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
	current, err := p.store.Stage(ctx, place)
	if err != nil {
		return nil, err
	}
	actual, _, err := p.liveOf(ctx, client, scope, place)
	if err != nil {
		return nil, err
	}
	record, err := p.recordOf(ctx, current)
	if err != nil {
		return nil, err
	}
	return plan.FindDrift(record, actual, Specs(kinds)), nil
}

// Platforms returns the platforms that are connected, by name.
func (p *Planner) Platforms() map[string]*platform.Client { return p.platforms }
