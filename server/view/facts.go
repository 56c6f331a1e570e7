// Package view makes what the pages of a service show out of facts: the stage
// line, the Board, and what needs somebody. It reads nothing itself, so that it
// is tested without a server. Words for people stand in words.go.
package view

import (
	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/engine/observe"
	"rudmar/engine/source"
	"rudmar/engine/store"
)

// Facts is what is known of a service.
type Facts struct {
	Service store.Service
	Branch  string // the main one
	Head    source.Commit
	// Build is the newest build; the zero build where there is none.
	Build store.Build
	// Manifests are those of the newest version, or of the head where there is
	// none; nil where they cannot be read.
	Manifests  *manifest.Service
	Newest     int // version; 0 for none
	Places     []store.Stage
	Deliveries []Delivery // newest version first
	Looks      map[manifest.Place]observe.Look
	// Records and Behind are what the Board shows beside: what was put in each
	// place, and by stage how many versions a function is behind.
	Records map[manifest.Place][]store.Recorded
	Behind  map[string]map[string]int
}

// Delivery is where a version stands in a stage; while it waits, with its gates.
type Delivery struct {
	store.Delivery
	Gates []delivery.Gate
}

// Stages gives the stages in their order.
func (f *Facts) Stages() []manifest.Stage {
	if f.Manifests == nil {
		return nil
	}
	return f.Manifests.Stages
}

// At gives what is recorded of a stage's targets.
func (f *Facts) At(stage string) []store.Stage {
	var out []store.Stage
	for _, p := range f.Places {
		if p.Stage == stage {
			out = append(out, p)
		}
	}
	return out
}

// VersionIn gives the version that runs in a stage, the least where targets
// differ, and since when in Unix milliseconds.
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

// Awaits tells whether a delivery's gates are shown: it waits for a stage that
// has no newer version.
func (f *Facts) Awaits(d store.Delivery) bool {
	there, _ := f.VersionIn(d.Stage)
	return d.State == delivery.Waiting && d.Version >= there
}
