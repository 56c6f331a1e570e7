package server

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"rudmar/core/author"
	"rudmar/core/canon"
	"rudmar/core/check"
	"rudmar/core/manifest"
	"rudmar/core/plan"
	"rudmar/core/rights"
	"rudmar/engine/store"
	"rudmar/platform"
	wire "rudmar/platform/api"
	"rudmar/server/api"
)

// refreshing is the time limit of checks of the platform for one list; then it returns what is known.
const refreshing = 1500 * time.Millisecond

// refresh observes the places that have changed since their last observation, as far as the platforms respond.
func (h *handlers) refresh(ctx context.Context, service, stage string) error {
	own, cancel := context.WithTimeout(ctx, refreshing)
	defer cancel()
	if err := h.engine.Watch.Refresh(own, service, stage); own.Err() == nil {
		return err
	}
	return ctx.Err()
}

// ListDrift lists the drift of the last observations, with its effects since. It observes places that have changed
// since, and asks the platform for metrics otherwise.
func (h *handlers) ListDrift(ctx context.Context, r api.ListDriftRequestObject) (api.ListDriftResponseObject, error) {
	if err := h.refresh(ctx, r.Service, api.OrZero(r.Params.Stage)); err != nil {
		return nil, err
	}
	looks, err := h.engine.Watch.Observations(ctx, r.Service)
	if err != nil {
		return nil, err
	}
	out := api.ListDrift200JSONResponse{}
	places := make([]manifest.Place, 0, len(looks))
	for place := range looks {
		if r.Params.Stage == nil || *r.Params.Stage == place.Stage {
			places = append(places, place)
		}
	}
	slices.SortFunc(places, func(a, b manifest.Place) int { return strings.Compare(a.String(), b.String()) })
	for _, place := range places {
		drift := looks[place].Drift
		since := h.newSince(place)
		for i := range drift {
			row, err := convert[api.Drifted](drift[i])
			if err != nil {
				return nil, err
			}
			row.Target = place.Target.String()
			at := api.DriftEntry{Stage: place.Stage, Function: drift[i].Function, Open: drift[i].Open(), Drift: row,
				Copyable: []string{}}
			at.Invocations, at.Errors = since.calls(ctx, drift[i].Function, drift[i].Since)
			for _, a := range drift[i].Attributes {
				if author.Copyable(drift[i].Address, a.Name, a.Actual) {
					at.Copyable = append(at.Copyable, a.Name)
				}
			}
			out = append(out, at)
		}
	}
	return out, nil
}

// sumsSince are the metrics of a place's functions since several times.
type sumsSince struct {
	client *platform.Client
	scope  platform.Scope
	known  map[int64][]wire.MinuteSum // by minute since the Unix epoch
}

// sinceTimes is the maximum number of requests to a platform for one list: simultaneous changes were detected
// together.
const sinceTimes = 8

func (h *handlers) newSince(place manifest.Place) *sumsSince {
	client, scope, err := h.engine.Planner.Platform(place)
	if err != nil {
		client = nil // a platform without a connection counts nothing
	}
	return &sumsSince{client, scope, map[int64][]wire.MinuteSum{}}
}

// calls counts a function's calls, and how many failed, since a time in Unix milliseconds; none if the platform
// does not answer.
func (s *sumsSince) calls(ctx context.Context, function string, since int64) (calls, failed int) {
	minute := since / time.Minute.Milliseconds()
	sums, known := s.known[minute]
	if !known && s.client != nil && len(s.known) < sinceTimes {
		ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
		defer cancel()
		sums, _ = s.client.Sums(ctx, s.scope, time.UnixMilli(minute*time.Minute.Milliseconds())) // or nothing
		s.known[minute] = sums
	}
	for _, m := range sums {
		if m.Function == function {
			calls, failed = calls+m.Invocations, failed+m.Errors
		}
	}
	return calls, failed
}

// drifted finds a drift that is there now.
func (h *handlers) drifted(ctx context.Context, service string,
	p api.DriftLocation) (manifest.Place, plan.Drift, *plan.DriftedDetail, error) {
	place := manifest.PlaceOf(service, p.Stage, p.Target)
	drift, err := h.engine.Planner.Drift(ctx, place)
	if err != nil {
		return place, plan.Drift{}, nil, err
	}
	for _, d := range drift {
		if d.Address != p.Address {
			continue
		}
		if api.OrZero(p.Attribute) == "" && (d.Vanished || d.Unknown) {
			return place, d, nil, nil
		}
		for i := range d.Attributes {
			if d.Attributes[i].Name == api.OrZero(p.Attribute) {
				return place, d, &d.Attributes[i], nil
			}
		}
	}
	return place, plan.Drift{}, nil, store.NotFound("%s %s in %s on %s matches the record", p.Address,
		api.OrZero(p.Attribute), p.Stage, p.Target)
}

// IgnoreDrift writes down that the actual state now is left.
func (h *handlers) IgnoreDrift(ctx context.Context,
	r api.IgnoreDriftRequestObject) (api.IgnoreDriftResponseObject, error) {
	if err := may(ctx, rights.Deploy, r.Service, r.Body.Place.Stage); err != nil {
		return nil, err
	}
	place, d, attribute, err := h.drifted(ctx, r.Service, r.Body.Place)
	if err != nil {
		return nil, err
	}
	left := plan.IgnoredDrift{Address: d.Address, Reason: r.Body.Reason, Person: who(ctx).person.Username,
		Until: api.OrZero(r.Body.Until)}
	if left.Until != 0 && left.Until <= h.engine.Store.Now().UnixMilli() {
		return nil, badRequest("the end of ignoring is in the past; choose a later time")
	}
	if attribute != nil {
		left.Attribute, left.Actual = attribute.Name, attribute.Actual
	}
	if err := h.engine.Store.IgnoreDrift(ctx, place, left); err != nil {
		return nil, err
	}
	h.engine.Watch.ObserveSoon()
	return api.IgnoreDrift204Response{}, nil
}

// UnignoreDrift ends the ignoring of drift.
func (h *handlers) UnignoreDrift(ctx context.Context,
	r api.UnignoreDriftRequestObject) (api.UnignoreDriftResponseObject, error) {
	if err := may(ctx, rights.Deploy, r.Service, r.Body.Stage); err != nil {
		return nil, err
	}
	place := manifest.PlaceOf(r.Service, r.Body.Stage, r.Body.Target)
	if err := h.engine.Store.Unignore(ctx, place, r.Body.Address, api.OrZero(r.Body.Attribute),
		who(ctx).person.Username); err != nil {
		return nil, err
	}
	h.engine.Watch.ObserveSoon()
	return api.UnignoreDrift204Response{}, nil
}

// errNotTaken reports that an edit would not result in the actual state.
var errNotTaken = errors.New("the manifests cannot express this value; edit them manually")

// CopyDrift returns the edit that writes the actual values of all drifted attributes of a function to the manifest.
// It is checked first: the edited service must result in exactly these values.
func (h *handlers) CopyDrift(ctx context.Context,
	r api.CopyDriftRequestObject) (api.CopyDriftResponseObject, error) {
	place, d, attribute, err := h.drifted(ctx, r.Service, *r.Body)
	if err != nil {
		return nil, err
	}
	if attribute == nil {
		return nil, badRequest("the existence of a resource cannot be copied to the manifest; declare it, or remove it, manually")
	}
	branch, err := h.branch(ctx, r.Service, nil)
	if err != nil {
		return nil, err
	}
	commit, folder, err := h.engine.Source(ctx, r.Service, branch)
	if err != nil {
		return nil, err
	}
	all, err := h.engine.Planner.Drift(ctx, place)
	if err != nil {
		return nil, err
	}
	edit := api.ManifestEdit{Branch: branch, Commit: commit.Hash, Function: d.Function,
		Attributes: []string{}, Files: map[string]string{}}
	changed := map[string][]byte{}
	for _, other := range all {
		if other.Function != d.Function || other.Vanished || other.Unknown || other.Follows != "" {
			continue
		}
		for _, a := range other.Attributes {
			own := other.Address == d.Address && a.Name == attribute.Name
			err := h.copyValue(ctx, r.Service, folder, changed, api.DriftLocation{Stage: r.Body.Stage, Target: r.Body.Target,
				Address: other.Address, Attribute: &a.Name}, a.Actual)
			switch {
			case err == nil:
				edit.Attributes = append(edit.Attributes, other.Address+" "+a.Name)
			case own:
				return nil, badRequest(err.Error()) // others that cannot be copied stay drift
			}
		}
	}
	for file, text := range changed {
		edit.Files[file] = string(text)
	}
	return api.CopyDrift200JSONResponse(edit), nil
}

// copyValue adds the edit of one drifted value to changed. After an error changed is unchanged.
func (h *handlers) copyValue(ctx context.Context, service string, folder manifest.Folder, changed map[string][]byte,
	p api.DriftLocation, actual any) error {
	under := manifest.Overlay{Under: folder, Changed: changed}
	result := h.engine.Checks.Check(ctx, service, under)
	if result.Service == nil {
		return errors.New("the manifests of the branch cannot be read; fix them first")
	}
	secret, err := h.isSecret(ctx, service, result, p)
	if err != nil {
		return err
	}
	if secret {
		return errors.New("it is a secret of the stage; set its value there")
	}
	file, text, err := author.TakeOver(under, result.Service, p.Stage, p.Address, *p.Attribute, actual)
	if err != nil {
		return err
	}
	next := maps.Clone(changed)
	next[file] = text
	edited := h.engine.Checks.Check(ctx, service, manifest.Overlay{Under: folder, Changed: next})
	if err := h.says(ctx, service, edited, p, actual); err != nil {
		return err
	}
	changed[file] = text
	return nil
}

// isSecret reports whether a value comes from a secret, of which the actual state has only a fingerprint.
func (h *handlers) isSecret(ctx context.Context, service string, r check.Result, p api.DriftLocation) (bool, error) {
	inputs, _, err := h.inputs(ctx, service, r, p.Stage)
	if err != nil {
		return false, err
	}
	for _, res := range h.resources(service, r, p.Stage, inputs) {
		if _, secret := res.Secrets[api.OrZero(p.Attribute)]; secret && res.Address == p.Address {
			return true, nil
		}
	}
	return false, nil
}

// says checks that a service results in a value of a resource.
func (h *handlers) says(ctx context.Context, service string, edited check.Result, p api.DriftLocation,
	value any) error {
	if !edited.OK() {
		return errNotTaken
	}
	inputs, _, err := h.inputs(ctx, service, edited, p.Stage)
	if err != nil {
		return err
	}
	for _, res := range h.resources(service, edited, p.Stage, inputs) {
		if res.Address == p.Address && canon.Equal(res.Get(api.OrZero(p.Attribute)), value) {
			return nil
		}
	}
	return errNotTaken
}
