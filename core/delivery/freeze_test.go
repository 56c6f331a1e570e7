package delivery_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/timing"
)

const harvest = "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:x\nBEGIN:VEVENT\nUID:1\nDTSTAMP:20261101T000000Z\nSUMMARY:The harvest\n" +
	"DTSTART:20261124T000000Z\nDTEND:20261126T100000Z\nEND:VEVENT\nEND:VCALENDAR\n"

// Nothing enters during a freeze, or while the calendar is unknown.
func TestFreezes(t *testing.T) {
	calendar, err := timing.ParseCalendar(harvest, time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	unread := errors.New("the server responded 503")
	for _, tt := range []struct {
		what   string
		window manifest.Window
		now    string
		err    error
		state  delivery.GateState
		why    string
		until  string // "" if the gate does not pass by time
	}{
		{"before", manifest.Window{Calendar: calendar}, "2026-11-23 12:00", nil, delivery.GatePassed, "frozen from 2026-11-24 00:00 UTC: The harvest", ""},
		{"in it", manifest.Window{Calendar: calendar}, "2026-11-24 12:00", nil, delivery.GateWaiting, "frozen until 2026-11-26 10:00 UTC: The harvest", "2026-11-26 10:00"},
		{"after", manifest.Window{Calendar: calendar}, "2026-11-26 10:00", nil, delivery.GatePassed, "the window is open", ""},
		{"and the window opens later", manifest.Window{Days: "mon-wed", Hours: "08:00-15:00", Zone: "Europe/Oslo", Calendar: calendar}, "2026-11-24 12:00", nil,
			delivery.GateWaiting, "The harvest; the window opens afterward, 2026-11-30 08:00 CET", "2026-11-30 07:00"},
		{"the window opens into it", manifest.Window{Days: "tue-thu", Calendar: calendar}, "2026-11-23 12:00", nil,
			delivery.GateWaiting, "which opens 2026-11-26 10:00 UTC", "2026-11-26 10:00"},
		{"by address", manifest.Window{Freezes: "https://brambleford.invalid/f.ics"}, "2026-11-24 12:00", nil, delivery.GateWaiting, "frozen until", "2026-11-26 10:00"},
		{"not read", manifest.Window{Freezes: "https://brambleford.invalid/f.ics"}, "2026-11-29 12:00", unread, delivery.GateWaiting, "the server responded 503", ""},
	} {
		own, f := stage(), fulfilled()
		own.Gates = manifest.Gates{Window: &tt.window}
		if f.Now, err = time.Parse("2006-01-02 15:04", tt.now); err != nil {
			t.Fatal(err)
		}
		f.Calendar = func(string, *time.Location) (timing.Calendar, error) { return calendar, tt.err }
		for _, g := range delivery.Gates(t.Context(), delivery.Entry{Own: own}, f) {
			if g.Kind != delivery.WindowGate {
				continue
			}
			until := ""
			if g.Until > 0 {
				until = time.UnixMilli(g.Until).UTC().Format("2006-01-02 15:04")
			}
			if g.State != tt.state || !strings.Contains(g.Reason, tt.why) || until != tt.until {
				t.Errorf("%s: %s, %q, until %s", tt.what, g.State, g.Reason, until)
			}
		}
	}
}
