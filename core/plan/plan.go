// Package plan compares the desired state of a stage with the recorded state and the actual state,
// and computes the steps from one to the other, each with its reasons, in phases.
package plan

import (
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

// Recorded is a resource as Rudmar last put it.
type Recorded struct {
	Address    string         `json:"address"`
	Kind       string         `json:"kind"`
	Function   string         `json:"function"`
	Attributes map[string]any `json:"attributes"`
	Needs      []string       `json:"needs,omitempty"`
}

// Live is a resource as the platform gives it now.
type Actual struct {
	Address    string         `json:"address"`
	Kind       string         `json:"kind"`
	Attributes map[string]any `json:"attributes"`
	Tag        string         `json:"tag"` // the entity tag of this state of it
	Changed    int64          `json:"-"`   // when it was changed, Unix milliseconds; 0 where nobody knows
	By         string         `json:"-"`   // the key of the request that changed it; "" where nobody knows
}

// KindSpec is what the platform says of a kind of resource.
type KindSpec struct {
	Kind       string
	Attributes []AttributeSpec
}

// AttributeSpec is what the platform says of an attribute. A name that ends in
// * stands for all that start so.
type AttributeSpec struct {
	Name     string
	InPlace  bool
	Computed bool
	Unit     string // "bytes", "ms" or ""
}

// Base is what a plan was computed against.
type Base struct {
	manifest.Place
	Version     int    `json:"version"`
	From        int    `json:"from"` // the version that was there, 0 for none
	Serial      int64  `json:"serial"`
	Fingerprint string `json:"fingerprint"`
	Commit      string `json:"commit"`
}

// Parallelism is how many steps of a deployment run at the same time, where their order allows it.
const Parallelism = 16

// Inputs is all that a plan is made of.
type Inputs struct {
	Base   Base
	Wanted []expand.Resource // sorted by address
	Record []Recorded
	Actual []Actual
	Kinds  []KindSpec
	Quotas []Quota
	// Files lists, per function, the files whose bytes changed since the version that is there.
	Files map[string][]string
	// Renamed gives, per function, its former name; Renames tells whether the
	// platform lets what it keeps of a function go on under another one.
	Renamed map[string]string
	Renames bool
	// Usual is how long a step of a kind took of late.
	Usual map[string]time.Duration
	// Left says why nothing is wanted here any more: the version no longer has the
	// stage, or the stage not this target; "" where it has both.
	Left string
	// Rules are what becomes of the rules that stand in the stage.
	Rules []impact.RuleChange
	// Blockers that were found before.
	Blockers []Blocker
	// Seen is what was observed of late; nil where nobody knows.
	Seen *impact.Figures
	// Deletions lists addresses that are live and not Rudmar's own, and are to go.
	Deletions []string
	// Only is the one kind of resource that the plan is about; "" for all.
	Only string
	// Draft tells that no version has what is wanted: the plan is never run.
	Draft bool
	// LeftAlone is the drift that somebody leaves as it is.
	LeftAlone []IgnoredDrift
}

// Blocker stops a plan from being run.
type Blocker struct {
	Message string       `json:"message"`
	Address string       `json:"address,omitempty"`
	From    *tree.Origin `json:"from,omitempty"`
}

// CauseKind says what kind of reason a step has.
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

// AttributeChange is what happens to one attribute. Absent values are null.
type AttributeChange struct {
	Name   string `json:"name"`
	Before any    `json:"before"`
	After  any    `json:"after"`
	// Live is set where live differs from the record.
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
	// RecordOnly tells that live is right already and only the record changes.
	RecordOnly bool `json:"recordOnly,omitempty"`
	// RevertsDrift tells that the step also overwrites a change made by hand.
	RevertsDrift bool              `json:"revertsDrift,omitempty"`
	Attributes   []AttributeChange `json:"attributes"`
	Because      []Cause           `json:"because"`
	Needs        []int             `json:"needs"`
	Phase        int               `json:"phase"`
	Expected     int64             `json:"expected"` // milliseconds
	// Tag is the entity tag of the live resource that the step was computed against.
	Tag string `json:"tag,omitempty"`
	// Want is the whole resource as it is to be; nil for a delete.
	Want map[string]any `json:"want,omitempty"`
	// RenamedFrom is the former name of the function whose identity this is: all that is
	// kept of it goes on under the new one.
	RenamedFrom string `json:"renamedFrom,omitempty"`
	// WantNeeds is what the resource will need.
	WantNeeds []string `json:"wantNeeds,omitempty"`
	// Follows is the address of the step that brings this one with it: nobody decides
	// by this one.
	Follows string `json:"follows,omitempty"`
}

// Plan is the steps that take a stage from its record to a version.
type Plan struct {
	Format int    `json:"format"`
	Base   Base   `json:"base"`
	Steps  []Step `json:"steps"`
	Phases int    `json:"phases"`
	// milliseconds, along the critical path or Parallelism steps at a time, whatever takes longer
	Expected  int64         `json:"expected"`
	Unchanged int           `json:"unchanged"`
	Impact    impact.Impact `json:"impact"`
	Blockers  []Blocker     `json:"blockers"`
	// Draft tells that it is of an edit that no version has, and is never run.
	Draft bool `json:"draft,omitempty"`
	// Deletions lists what is live, not Rudmar's own, and was asked to go.
	Deletions []string `json:"deletions,omitempty"`
	// Only is the one kind of resource that it is about, such as the pointers that share out
	// calls; "" for all.
	Only string `json:"only,omitempty"`
	// Outlook is what the figures of the moment say; it is no part of the digest.
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

// Compute makes the plan. The same inputs give the same plan, to the byte.
func Compute(in Inputs) *Plan {
	in, renamings := rename(in)
	b := newBuilder(in)
	for _, r := range renamings {
		b.called(r)
	}
	b.compare()
	p := &Plan{Format: Format, Base: in.Base, Steps: b.steps, Unchanged: b.unchanged, Deletions: in.Deletions,
		Only:  in.Only,
		Draft: in.Draft}
	// What it means does not depend on the order: both are found at the same time.
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
