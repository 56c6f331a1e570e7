package server

import (
	"context"
	"fmt"
	"strings"
	"time"

	ical "github.com/arran4/golang-ical"

	"rudmar/core/manifest"
	"rudmar/core/timing"
	"rudmar/engine/store"
	"rudmar/server/api"
)

// ahead is the number of days of a stage's calendar.
const ahead = 56

// GetCalendar returns when a stage can be entered, by the standing rules; if there are none yet, by those of
// the newest version.
func (h *handlers) GetCalendar(ctx context.Context, r api.GetCalendarRequestObject) (api.GetCalendarResponseObject,
	error) {
	stage, err := h.standingStage(ctx, r.Service, r.Stage)
	if err != nil {
		return nil, err
	}
	out := ical.NewCalendarFor("Rudmar")
	out.SetName(r.Service + " " + r.Stage)
	now := h.engine.Store.Now().UTC()
	window := stage.Gates.Window
	if window == nil {
		window = &manifest.Window{} // it can be entered at any time
	}
	parsed, err := timing.ParseWindow(window.Days, window.Hours, window.Zone)
	if err != nil {
		return nil, err
	}
	freezes := window.Calendar
	if address := window.FreezesAddress(); address != "" {
		if freezes, err = h.engine.Calendars.Get(ctx, address); err != nil {
			return nil, fmt.Errorf("the freezes of %s, %s: %w", r.Stage, address, err)
		}
	}
	for _, o := range parsed.Openings(now.Truncate(time.Minute), ahead, freezes) {
		e := out.AddEvent(fmt.Sprintf("%d-%s-%s@rudmar", o.From.Unix(), r.Service, r.Stage))
		e.SetDtStampTime(now)
		e.SetStartAt(o.From.UTC())
		e.SetEndAt(o.To.UTC())
		e.SetSummary(r.Service + " can enter " + r.Stage)
	}
	text := out.Serialize()
	return api.GetCalendar200TextcalendarResponse{Body: strings.NewReader(text), ContentLength: int64(len(text))}, nil
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
