package view

import (
	"slices"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/engine/source"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// StageLine returns the stage line: the source, and each stage with its deployed
// version and the version waiting to enter.
func StageLine(f *Facts) api.StageLine {
	out := api.StageLine{Service: f.Service.Name, Source: sourceHead(f), Stages: []api.Station{}}
	if f.Manifests != nil {
		out.Description = api.Optional(f.Manifests.About)
	}
	out.RenamedTo = api.Optional(f.Service.RenamedTo)
	for _, stage := range f.Stages() {
		out.Stages = append(out.Stages, station(f, &stage))
	}
	return out
}

// Head returns the newest commit.
func Head(c source.Commit, branch string) api.SourceHead {
	return api.SourceHead{Branch: branch, Hash: c.Hash, Author: c.Author, Message: c.Message, At: c.At.UnixMilli()}
}

// sourceHead returns the newest commit, and whether it is built.
func sourceHead(f *Facts) api.SourceHead {
	if f.Head.Hash == "" {
		return api.SourceHead{Branch: f.Branch, State: api.SourceStateEmpty}
	}
	out := Head(f.Head, f.Branch)
	if f.Build.Hash == f.Head.Hash {
		out.Person = f.Build.Person
	}
	switch b := f.Build; {
	case b.Hash != f.Head.Hash:
		out.State = api.SourceStateNotBuilt
	case b.State == store.BuildQueued:
		out.State = api.SourceStateBuilding
	case b.State == store.BuildFailed || b.State == store.BuildCancelled:
		out.State, out.Reason = api.SourceState(b.State), api.Optional(b.Reason)
	default:
		out.State, out.Version = api.SourceStateBuilt, &b.Version
	}
	return out
}

func station(f *Facts, stage *manifest.Stage) api.Station {
	s := api.Station{Stage: stage.Name, Targets: []string{}, Declared: f.Declares(stage.Name)}
	for _, t := range stage.Targets {
		s.Targets = append(s.Targets, t.String())
	}
	s.Version, s.Since = f.VersionIn(stage.Name)
	watched(f, &s)
	s.State = api.StageState(delivery.Settled)
	if s.Version == 0 {
		s.State = api.StageStateEmpty
	}
	newest := true
	for _, d := range f.Deliveries {
		if d.Stage != stage.Name {
			continue
		}
		switch {
		case delivery.Moving(d.State):
			if v := f.Shifts[stage.Name]; v.Version == d.Version && v.Share() < 100 && d.State == delivery.Shifting {
				s.Shift = &api.ActiveShift{Before: v.Before, Share: v.Share(), Version: v.Version}
			}
			s.State, s.Reason = api.StageState(d.State), api.Optional(versionWords(d.Version))
		case d.State == delivery.Failed && newest && f.NotBefore(d.Delivery):
			s.State, s.Reason = api.StageState(d.State), api.Optional(stoppedWords(d.Version, d.Reason))
		case d.State == delivery.Waiting && f.Later(d.Delivery):
			wait(&s, d)
		}
		newest = newest && d.State == delivery.Waiting
	}
	if !delivery.Moving(delivery.State(s.State)) { // a delivery in progress is rolled back on its own page
		s.Before = api.Optional(f.Before(stage.Name))
	}
	return s
}

// watched returns the observations of a stage's targets.
func watched(f *Facts, s *api.Station) {
	var versions []int
	failing := map[string]bool{}
	for _, p := range f.At(s.Stage) {
		versions = append(versions, p.Version)
		look := f.Looks[p.Place]
		for i := range look.Drift {
			if look.Drift[i].Open() {
				s.Drifted++
			}
		}
		if look.Error != "" {
			s.Problem = &look.Error
			s.ProblemSince = api.Optional(look.Since)
		}
		for fn, metrics := range look.Functions {
			if metrics.Errors > 0 {
				failing[fn] = true
			}
		}
	}
	s.Failing = len(failing)
	slices.Sort(versions)
	if len(slices.Compact(versions)) > 1 {
		s.Versions = &versions
	}
}

// wait counts a waiting version and, for the newest that came as far, returns its gate results.
func wait(s *api.Station, d Delivery) {
	arrived := true
	for _, g := range d.Gates {
		if g.Kind == delivery.BeforeGate && g.State == delivery.GateNotMet {
			return
		}
		arrived = arrived && (g.Kind != delivery.BeforeGate || g.Passed())
	}
	s.Waiting++
	if s.Blocked == nil && len(d.Blockers) > 0 {
		s.Blocked = &api.BlockedVersion{Version: d.Version, Blockers: d.Blockers}
	}
	if s.Next == nil || arrived && s.Next.State != api.Arrived {
		s.Next = &api.NextVersion{Version: d.Version, Summary: delivery.Summary(d.Gates),
			Pending: delivery.Open(d.Gates), BlockedBy: api.Optional(delivery.BlockedBy(d.Gates)),
			State: map[bool]api.NextVersionState{true: api.Arrived, false: api.InProgress}[arrived]}
	}
}
