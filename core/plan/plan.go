// Package plan compares the desired state of a stage with the recorded state and the actual state,
// and computes the steps from one to the other, each with its reasons, in phases.
//
// Plans can be computed concurrently; a Queue cannot be used concurrently.
package plan

import (
	"fmt"
	"slices"
	"sync"
	"time"

	"rudmar/core/expand"
	"rudmar/core/impact"
	"rudmar/core/manifest"
	"rudmar/core/resource"
	"rudmar/core/tree"
)

// Format is the version of the plan's form.
const Format = 2

// Recorded is a resource as Rudmar last wrote it.
type Recorded struct {
	Address    string         `json:"address"`
	Kind       string         `json:"kind"`
	Function   string         `json:"function"`
	Attributes map[string]any `json:"attributes"`
	Needs      []string       `json:"needs,omitempty"`
}

// Live is a resource as the platform has it now.
type Actual struct {
	Address    string         `json:"address"`
	Kind       string         `json:"kind"`
	Attributes map[string]any `json:"attributes"`
	Tag        string         `json:"tag"` // the entity tag of this state
	Changed    int64          `json:"-"`   // when it was changed, Unix milliseconds; 0 if unknown
	By         string         `json:"-"`   // the key of the request that changed it; "" if unknown
}

// KindSpec is the platform's description of a kind of resource.
type KindSpec struct {
	Kind       string
	Attributes []AttributeSpec
}

// AttributeSpec is the platform's description of an attribute. A name that ends in * matches all with that
// prefix.
type AttributeSpec struct {
	Name     string
	InPlace  bool
	Computed bool
	Unit     string // "bytes", "ms" or ""
}

// Base is the state that a plan was computed against.
type Base struct {
	manifest.Place
	Version     int    `json:"version"`
	From        int    `json:"from"` // the deployed version, 0 for none
	Serial      int64  `json:"serial"`
	Fingerprint string `json:"fingerprint"`
	Commit      string `json:"commit"`
}

// Parallelism is the maximum number of concurrent steps of a deployment.
const Parallelism = 16

// Inputs are all inputs of a plan.
type Inputs struct {
	Base   Base
	Wanted []expand.Resource // sorted by address, each once
	Record []Recorded
	Actual []Actual
	Kinds  []KindSpec
	Quotas []Quota
	// Files lists, per function, the files that changed since the deployed version.
	Files map[string][]string
	// Renamed has, per function, its former name; Renames reports whether the platform keeps a function's data
	// under the new name.
	Renamed map[string]string
	Renames bool
	// Usual is the recent duration of a step, by kind.
	Usual map[string]time.Duration
	// Left is why nothing is desired here any more: the version no longer has the stage, or the stage not this
	// target; "" if it has both.
	Left string
	// Dropped has, by address, the first version after the deployed one that no longer declares a recorded resource;
	// 0 or absent if it is not known.
	Dropped map[string]int
	// Rules are the changes of the stage's standing rules.
	Rules []impact.RuleChange
	// Blockers found before.
	Blockers []Blocker
	// Seen are recent observations; nil if unknown.
	Seen *impact.Figures
	// Deletions lists the addresses of unmanaged resources to delete.
	Deletions []string
	// Only restricts the plan to one kind of resource; "" for all.
	Only string
	// Draft means that no version has this content: the plan is never executed.
	Draft bool
	// LeftAlone is ignored drift.
	LeftAlone []IgnoredDrift
}

// Blocker stops a plan from being run.
type Blocker struct {
	Message string       `json:"message"`
	Address string       `json:"address,omitempty"`
	From    *tree.Origin `json:"from,omitempty"`
}

// CauseKind is the kind of a step's reason.
type CauseKind string

// The kinds of causes.
const (
	ByManifest   CauseKind = "manifest"
	ByFiles      CauseKind = "files"
	BySetting    CauseKind = "setting"
	ByDefault    CauseKind = "default"
	ByBuiltIn    CauseKind = "built-in"
	ByDrift      CauseKind = "drift"
	ByDependency CauseKind = "dependency"
	ByVanished   CauseKind = "vanished"
	ByNew        CauseKind = "new"
	ByRemoval    CauseKind = "removal"
)

// Cause is one reason for a step.
type Cause struct {
	Kind  CauseKind    `json:"kind"`
	Text  string       `json:"text"`
	From  *tree.Origin `json:"from,omitempty"`
	Files []string     `json:"files,omitempty"`
}

// AttributeChange is the change of one attribute. Absent values are null.
type AttributeChange struct {
	Name   string `json:"name"`
	Before any    `json:"before"`
	After  any    `json:"after"`
	// Live is set if the actual value differs from the record.
	Actual  any    `json:"actual,omitempty"`
	Drifted bool   `json:"drifted,omitempty"`
	Unit    string `json:"unit,omitempty"`
}

// Step is one change of one resource.
type Step struct {
	Index    int             `json:"index"`
	Address  string          `json:"address"`
	Kind     string          `json:"kind"`
	Function string          `json:"function"`
	Change   resource.Change `json:"change"`
	// RecordOnly means that the actual state is correct already and only the record changes.
	RecordOnly bool `json:"recordOnly,omitempty"`
	// RevertsDrift means that the step also overwrites a change made outside Rudmar.
	RevertsDrift bool              `json:"revertsDrift,omitempty"`
	Attributes   []AttributeChange `json:"attributes"`
	Because      []Cause           `json:"because"`
	Needs        []int             `json:"needs"`
	Phase        int               `json:"phase"`
	Expected     int64             `json:"expected"` // milliseconds
	// Tag is the entity tag of the actual resource that the step was computed against.
	Tag string `json:"tag,omitempty"`
	// Want is the desired resource; nil for a delete.
	Want map[string]any `json:"want,omitempty"`
	// RenamedFrom is the former name of the identity's function: its data is kept under the new name.
	RenamedFrom string `json:"renamedFrom,omitempty"`
	// WantNeeds are the resource's dependencies after the step.
	WantNeeds []string `json:"wantNeeds,omitempty"`
	// Follows is the address of the step that causes this one: it needs no decision of its own.
	Follows string `json:"follows,omitempty"`
}

// Plan has the steps that take a stage from its record to a version.
type Plan struct {
	Format int    `json:"format"`
	Base   Base   `json:"base"`
	Steps  []Step `json:"steps"`
	Phases int    `json:"phases"`
	// milliseconds, along the critical path or Parallelism steps at a time, whichever is longer
	Expected  int64         `json:"expected"`
	Unchanged int           `json:"unchanged"`
	Impact    impact.Impact `json:"impact"`
	Blockers  []Blocker     `json:"blockers"`
	// Draft means that it is the plan of an edit that is not in a version, and is never executed.
	Draft bool `json:"draft,omitempty"`
	// Deletions lists the unmanaged resources that the plan deletes on request.
	Deletions []string `json:"deletions,omitempty"`
	// Only is the one kind of resource that the plan is restricted to, such as traffic pointers; "" for all.
	Only string `json:"only,omitempty"`
	// Outlook is computed from current observations; it is not part of the digest.
	Outlook *impact.Outlook `json:"outlook,omitempty"`
	// Digest is the SHA-256 of the plan's RFC 8785 form without outlook and digest.
	Digest string `json:"digest,omitempty"`
}

// Seal sets the digest from the rest of the plan.
func (p *Plan) Seal() { p.Digest = digest(p) }

// Empty reports whether the plan has no steps.
func (p *Plan) Empty() bool { return len(p.Steps) == 0 }

// Functions lists the functions that the steps are of, each once, in the order of
// the steps.
func (p *Plan) Functions() []string {
	out, seen := []string{}, map[string]bool{}
	for _, s := range p.Steps {
		if !seen[s.Function] {
			seen[s.Function] = true
			out = append(out, s.Function)
		}
	}
	return out
}

// Compute computes the plan. The same inputs result in the same plan, to the byte. If Wanted is not sorted, the plan
// has a blocker and no steps.
func Compute(in Inputs) *Plan {
	for i := 1; i < len(in.Wanted); i++ {
		if in.Wanted[i-1].Address >= in.Wanted[i].Address {
			p := &Plan{Format: Format, Base: in.Base, Steps: []Step{}, Blockers: []Blocker{{Message: fmt.Sprintf(
				"the resources are not sorted: %s is before %s", in.Wanted[i-1].Address, in.Wanted[i].Address)}},
				Impact: impact.Assess(nil, nil, nil)}
			p.Seal()
			return p
		}
	}
	in, renamings := rename(in)
	b := newBuilder(in)
	for _, r := range renamings {
		b.called(r)
	}
	b.compare()
	p := &Plan{Format: Format, Base: in.Base, Steps: b.steps, Unchanged: b.unchanged, Deletions: in.Deletions,
		Only:  in.Only,
		Draft: in.Draft}
	// Impact does not depend on the order: both are computed concurrently.
	var before, after []impact.Resource
	var touched map[string]resource.Change
	var means impact.Impact
	var weighing sync.WaitGroup
	weighing.Go(func() {
		before, after, touched = b.states(in.Seen != nil)
		means = impact.Assess(before, after, touched)
	})
	cycle := b.order(p)
	p.Blockers = append([]Blocker{}, slices.Concat(in.Blockers, b.blockers, beyondQuotas(in.Wanted, in.Quotas))...)
	if cycle != "" {
		p.Blockers = append(p.Blockers,
			Blocker{Message: "these steps depend on each other: " + cycle + "; deliver the change in two versions"})
	}
	b.fold()
	weighing.Wait()
	p.Impact = means
	p.Impact.Rules = append(p.Impact.Rules, in.Rules...)
	p.Impact.Gaps = b.gaps
	if p.Steps == nil {
		p.Steps = []Step{}
	}
	p.Seal()
	if in.Seen != nil {
		outlook := impact.Forecast(before, after, touched, p.Impact, *in.Seen)
		p.Outlook = &outlook
	}
	return p
}
