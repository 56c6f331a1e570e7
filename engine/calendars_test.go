package engine_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/engine"
)

// freeze is a calendar with one present or past event.
func freeze(name string, on bool) string {
	begins := time.Now().UTC().Add(-time.Hour)
	long := "PT1M"
	if on {
		long = "PT8H"
	}
	return fmt.Sprintf("BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:x\nBEGIN:VEVENT\nUID:1\nDTSTAMP:20261101T000000Z\nSUMMARY:%s\nDTSTART:%s\nDURATION:%s\nEND:VEVENT\nEND:VCALENDAR\n",
		name, begins.Format("20060102T150405Z"), long)
}

func frozenBy(calendar string) map[string]string {
	files := first()
	files["rudmar.yaml"] = `rudmar: 1
service: frostline
owner: cold-nights
stages:
  - {stage: trial, target: local/north, enter: {when: push}}
  - {stage: live, target: local/north, enter: {after: trial, when: ready}, gates: {window: {freezes: "` + calendar + `"}}}
`
	return files
}

// A calendar file beside rudmar.yaml belongs to the version: it freezes the stage, and also a later version
// with another calendar, as long as it is standing.
func TestCalendarFile(t *testing.T) {
	r := newRig(t)
	files := frozenBy("freezes.ics")
	files["freezes.ics"] = freeze("The harvest", true)
	r.push(files)
	r.reaches(1, "trial", delivery.Settled)
	r.until("the freeze to be told", func() bool {
		g := r.gate(1, "live", delivery.WindowGate)
		return g.State == delivery.GateWaiting && strings.Contains(g.Reason, "The harvest") && g.Until > time.Now().UnixMilli()
	})
	r.push(map[string]string{"freezes.ics": freeze("The harvest", false)})
	r.reaches(2, "live", delivery.Settled)
	r.push(map[string]string{"freezes.ics": "no calendar"})
	b, err := r.Store.LatestBuild(t.Context(), "frostline")
	r.until("what is no calendar to be refused", func() bool {
		b, err = r.Store.LatestBuild(t.Context(), "frostline")
		return err == nil && b.State == "failed"
	})
	if !strings.Contains(b.Log, "not an iCalendar text") {
		t.Errorf("the build says %s", b.Log)
	}
}

// A calendar by address is read automatically, again after an error; until it was read nothing enters.
func TestCalendarAddress(t *testing.T) {
	var sick, on, odd atomic.Bool
	sick.Store(true)
	on.Store(true)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if sick.Load() {
			http.Error(w, "later", http.StatusServiceUnavailable)
			return
		}
		text := freeze("The harvest", on.Load())
		if odd.Load() {
			text = strings.Replace(text, "SUMMARY", "FREEZE:ALL\nSUMMARY", 1)
		}
		fmt.Fprint(w, text)
	}))
	t.Cleanup(server.Close)
	r := newRigWith(t, func(o *engine.Options) { o.NotificationsInside = true })
	r.push(frozenBy(server.URL + "/freezes.ics"))
	r.reaches(1, "trial", delivery.Settled)
	why := func(words string) func() bool {
		return func() bool {
			g := r.gate(1, "live", delivery.WindowGate)
			return g.State == delivery.GateWaiting && strings.Contains(g.Reason, words)
		}
	}
	r.until("it to be told that unreadable", why("503"))
	sick.Store(false)
	r.Calendars.Again()
	r.until("the freeze to be told", why("The harvest"))
	sick.Store(true) // the last content stays
	r.Calendars.Again()
	r.until("another try", func() bool {
		kept, err := r.Store.Calendar(t.Context(), server.URL+"/freezes.ics")
		return err == nil && strings.Contains(kept.Error, "503") && !kept.Read.IsZero()
	})
	if !why("The harvest")() {
		t.Error("what was read is forgotten")
	}
	sick.Store(false)
	on.Store(false)
	odd.Store(true) // it freezes nothing, but what it says is not understood
	r.Calendars.Again()
	r.until("it to be told that not understood", why("FREEZE is not known"))
	odd.Store(false)
	r.Calendars.Again()
	r.reaches(1, "live", delivery.Settled)

	// Internal addresses are refused, unless the operator allows them.
	r = newRig(t)
	r.push(frozenBy(server.URL + "/freezes.ics"))
	r.reaches(1, "trial", delivery.Settled)
	r.until("it to be told that it points inside", why("address is internal"))
}
