package server

import (
	"context"
	"fmt"
	"strings"
	"time"

	ical "github.com/arran4/golang-ical"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/timing"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// ahead is the number of days of a stage's calendar, and back how many days before now the start of an opening is
// looked for; mostFreezes is the maximum number of freezes in it.
const (
	ahead, back = 56, 31
	mostFreezes = 500
)

// GetCalendar returns when a stage can be entered, as its gates have it: by the standing rules and those of the
// newest waiting version; without either, by those of the newest version.
func (h *handlers) GetCalendar(ctx context.Context, r api.GetCalendarRequestObject) (api.GetCalendarResponseObject,
	error) {
	rules, waiting, err := h.entryRules(ctx, r.Service, r.Stage)
	if err != nil {
		return nil, err
	}
	out := ical.NewCalendarFor("Rudmar")
	out.SetName(r.Service + " " + r.Stage)
	now := h.engine.Store.Now().UTC()
	from := now.Truncate(24*time.Hour).AddDate(0, 0, -back)
	end := from.AddDate(0, 0, back+ahead)
	openings := []timing.Opening{{From: from, To: end}}
	if waiting != nil && waiting.NotBefore.After(now) {
		openings[0].From = waiting.NotBefore
	}
	var freezes []timing.Event
	for _, stage := range rules {
		window := stage.Gates.Window
		if window == nil {
			continue // it can be entered at any time
		}
		parsed, err := timing.ParseWindow(window.Days, window.Hours, window.Zone)
		if err != nil {
			return nil, err
		}
		calendar := window.Calendar
		if address := window.FreezesAddress(); address != "" {
			if calendar, err = h.engine.Calendars.Get(ctx, address, parsed.Zone()); err != nil {
				return nil, fmt.Errorf("the freezes of %s, %s: %w", r.Stage, address, err)
			}
		}
		openings = timing.Intersect(openings, parsed.Openings(from, back+ahead, calendar))
		freezes = append(freezes, calendar.Between(now, end, mostFreezes)...)
	}
	subject := r.Service
	if waiting != nil {
		subject = fmt.Sprintf("version %d of %s", waiting.Version, r.Service)
	}
	add := func(uid, summary string, o timing.Opening) {
		e := out.AddEvent(uid + "." + r.Stage + "." + r.Service + "@rudmar")
		e.SetDtStampTime(now)
		e.SetStartAt(o.From.UTC())
		e.SetEndAt(o.To.UTC())
		e.SetSummary(summary)
	}
	for _, o := range openings {
		if o.To.After(now) {
			add(openingID(o, from, end), subject+" can enter "+r.Stage, o)
		}
	}
	seen := map[string]bool{}
	for _, f := range freezes {
		uid := fmt.Sprintf("freeze-%d-%d", f.From.Unix(), f.To.Unix())
		if !seen[uid] {
			seen[uid] = true
			add(uid, r.Stage+" is frozen: "+f.Name, f.Opening)
		}
	}
	text := out.Serialize()
	return api.GetCalendar200TextcalendarResponse{Body: strings.NewReader(text), ContentLength: int64(len(text))}, nil
}

// openingID identifies an opening independently of the time of the request: by its start, or, if it started before
// the searched period, by its end.
func openingID(o timing.Opening, from, end time.Time) string {
	switch {
	case o.From.After(from):
		return fmt.Sprintf("opening-%d", o.From.Unix())
	case o.To.Before(end):
		return fmt.Sprintf("opening-until-%d", o.To.Unix())
	}
	return "opening"
}

// entryRules returns the rules that the newest waiting version of a stage must meet, with its delivery; without
// one, the standing rules, or those of the newest version.
func (h *handlers) entryRules(ctx context.Context, service, stage string) ([]*manifest.Stage, *store.Delivery, error) {
	deliveries, err := h.engine.Store.CurrentDeliveries(ctx, service)
	if err != nil {
		return nil, nil, err
	}
	for i := range deliveries { // newest version first
		if d := &deliveries[i]; d.Stage == stage && d.State == delivery.Waiting {
			entry, err := h.engine.Planner.Entry(ctx, service, stage, d.Version)
			return entry.Rules(), d, err
		}
	}
	standing, err := h.standingStage(ctx, service, stage)
	return []*manifest.Stage{standing}, nil, err
}

// standingStage returns a stage as declared in the deployed version, or in the newest one.
func (h *handlers) standingStage(ctx context.Context, service, stage string) (*manifest.Stage, error) {
	standing, err := h.engine.Store.Standing(ctx, service)
	if err != nil {
		return nil, err
	}
	version := standing[stage]
	if version == 0 {
		if version, err = h.engine.Store.NewestVersion(ctx, service); err != nil {
			return nil, err
		}
	}
	if version == 0 {
		return nil, store.NotFound("%s has no version yet", service)
	}
	own, _, err := h.engine.Planner.Service(ctx, service, version)
	if err != nil {
		return nil, err
	}
	if s := own.Stage(stage); s != nil {
		return s, nil
	}
	return nil, noStage(own, stage)
}
