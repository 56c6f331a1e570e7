// Package view derives the content of a service's pages from facts: the stage line, the Board, and
// what needs attention. It reads nothing itself, so it is tested without a server. Its text is in
// words.go.
package view

import (
	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/engine/observe"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// Facts are the inputs about a service.
type Facts struct {
	Service store.Service
	Branch  string // the main one
	Head    source.Commit
	// Build is the newest build; the zero build if there is none.
	Build store.Build
	// Manifests are those of the newest version, or of the head if there is none; nil if they cannot be read.
	Manifests *manifest.Service
	// Undeclared are the standing rules of stages that the manifests no longer declare, which are all that is
	// left of them.
	Undeclared map[string]*manifest.Stage
	Newest     int // version; 0 for none
	Places     []store.Stage
	Deliveries []Delivery // newest version first
	Looks      map[manifest.Place]observe.Observation
	Shifts     map[string]store.Shift // by stage, those in progress
	// Records and Behind are shown on the Board: the deployed resources of each place, and by stage how many
	// versions a function is behind.
	Records map[manifest.Place][]store.FunctionStatus
	// Turned are, by place, the secrets that were set since the last deployment there, with the functions that
	// need it to receive them.
	Turned map[manifest.Place][]Turned
	Behind map[string]map[string]int
	// Left are, by stage, the functions that the deployed version does not include.
	Left map[string][]string
}

// Turned is a secret whose new value is not deployed yet.
type Turned struct {
	Name      string
	Functions []string
}

// Delivery is a version's delivery to a stage; while it waits, with its gates.
type Delivery struct {
	store.Delivery
	Gates    []delivery.Gate
	Blockers []string // of its present plan
}

// Stages returns the stages in order: declared ones, and, in their former positions, removed ones that still
// have resources.
func (f *Facts) Stages() []manifest.Stage {
	var declared []manifest.Stage
	if f.Manifests != nil {
		declared = f.Manifests.Stages
	}
	return delivery.Stages(declared, f.Undeclared)
}

// Declares reports whether the newest version declares a stage.
func (f *Facts) Declares(stage string) bool {
	return f.Manifests != nil && f.Manifests.Stage(stage) != nil
}

// Stage returns a stage of Stages by name, or nil.
func (f *Facts) Stage(name string) *manifest.Stage {
	for _, s := range f.Stages() {
		if s.Name == name {
			return &s
		}
	}
	return nil
}

// Later reports whether a delivery has a later turn than the deployed version of its stage.
func (f *Facts) Later(d store.Delivery) bool {
	if there := f.Current(d.Stage); there != nil {
		return d.Turn > there.Turn
	}
	there, _ := f.VersionIn(d.Stage)
	return d.Version > there
}

// Current returns the delivery of the deployed version of a stage, or nil.
func (f *Facts) Current(stage string) *Delivery {
	there, _ := f.VersionIn(stage)
	for i, d := range f.Deliveries {
		if d.Stage == stage && d.Version == there {
			return &f.Deliveries[i]
		}
	}
	return nil
}

// Before returns the version to which a stage can be rolled back, the last that settled there before the
// deployed one; 0 for none.
func (f *Facts) Before(stage string) int {
	there := f.Current(stage)
	if there == nil {
		return 0
	}
	var before *Delivery
	for i, d := range f.Deliveries {
		if d.Stage == stage && d.State == delivery.Settled && d.Turn < there.Turn && len(d.Deployments) > 0 &&
			(before == nil || d.Turn > before.Turn) {
			before = &f.Deliveries[i]
		}
	}
	if before == nil {
		return 0
	}
	return before.Version
}

// NotBefore reports whether a delivery is that of the deployed version of its stage, or has a later turn.
func (f *Facts) NotBefore(d store.Delivery) bool {
	there, _ := f.VersionIn(d.Stage)
	return d.Version == there || f.Later(d)
}

// At returns the records of a stage's targets.
func (f *Facts) At(stage string) []store.Stage {
	var out []store.Stage
	for _, p := range f.Places {
		if p.Stage == stage {
			out = append(out, p)
		}
	}
	return out
}

// VersionIn returns the deployed version of a stage, the lowest if targets differ, and since when in Unix
// milliseconds.
func (f *Facts) VersionIn(stage string) (version int, since int64) {
	for i, p := range f.At(stage) {
		if i == 0 || p.Version < version {
			version = p.Version
		}
		if !p.Since.IsZero() {
			since = max(since, p.Since.UnixMilli())
		}
	}
	return version, since
}

// Awaits reports whether a delivery's gates are shown: it waits for a stage that
// has no newer version.
func (f *Facts) Awaits(d store.Delivery) bool {
	return d.State == delivery.Waiting && f.NotBefore(d)
}
