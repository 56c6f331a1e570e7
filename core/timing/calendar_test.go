package timing_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"rudmar/core/timing"
)

const freezes = `BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Brambleford Growers//freezes//EN
BEGIN:VEVENT
UID:1
DTSTAMP:20261101T000000Z
SUMMARY:The year's end
DTSTART;VALUE=DATE:20261223
DTEND;VALUE=DATE:20270103
END:VEVENT
BEGIN:VEVENT
UID:2
DTSTAMP:20261101T000000Z
SUMMARY:Market day
DTSTART;TZID=Europe/Oslo:20261106T060000
DTEND;TZID=Europe/Oslo:20261106T140000
RRULE:FREQ=WEEKLY;BYDAY=FR
EXDATE;TZID=Europe/Oslo:20261120T060000
END:VEVENT
BEGIN:VEVENT
UID:3
DTSTAMP:20261101T000000Z
SUMMARY:The scales are tested
DTSTART:20261110T100000Z
DURATION:PT2H30M
END:VEVENT
BEGIN:VEVENT
UID:4
DTSTAMP:20261101T000000Z
SUMMARY:Called off
STATUS:CANCELLED
DTSTART:20261111T100000Z
DURATION:P1W
END:VEVENT
END:VCALENDAR
`

func moment(t *testing.T, text string) time.Time {
	t.Helper()
	at, err := time.Parse("2006-01-02 15:04", text)
	if err != nil {
		t.Fatal(err)
	}
	return at
}

func TestCalendar(t *testing.T) {
	c, err := timing.ParseCalendar(strings.ReplaceAll(freezes, "\n", "\r\n"), time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	for _, tt := range []struct{ at, name, until string }{
		{"2026-12-22 23:59", "", ""},
		{"2026-12-23 00:00", "The year's end", "2027-01-03 00:00"},
		{"2027-01-02 23:59", "The year's end", "2027-01-03 00:00"},
		{"2027-01-03 00:00", "", ""},
		{"2026-11-06 04:59", "", ""}, // before six in Oslo
		{"2026-11-06 05:00", "Market day", "2026-11-06 13:00"},
		{"2026-11-06 13:00", "", ""},
		{"2026-11-13 12:00", "Market day", "2026-11-13 13:00"},
		{"2026-11-20 12:00", "", ""},                           // not that week
		{"2027-04-02 04:00", "Market day", "2027-04-02 12:00"}, // summer time
		{"2026-11-10 12:29", "The scales are tested", "2026-11-10 12:30"},
		{"2026-11-12 12:00", "", ""}, // called off
	} {
		name, until := c.At(moment(t, tt.at))
		got := ""
		if !until.IsZero() {
			got = until.UTC().Format("2006-01-02 15:04")
		}
		if name != tt.name || got != tt.until {
			t.Errorf("%s: %q until %s, not %q until %s", tt.at, name, got, tt.name, tt.until)
		}
	}
	if name, begins := c.Next(moment(t, "2026-11-06 13:00")); name != "The scales are tested" || !begins.Equal(moment(t, "2026-11-10 10:00")) {
		t.Errorf("next: %s at %s", name, begins)
	}
	if name, until := (timing.Calendar{}).At(time.Now()); name != "" || !until.IsZero() {
		t.Error("the zero calendar has an event")
	}
}

func TestInvalidCalendars(t *testing.T) {
	for _, tt := range []struct{ old, now, says string }{
		{"BEGIN:VCALENDAR\n", "", ""},
		{freezes, "<html>", ""},
		{"DTSTART:20261110T100000Z\n", "", "DTSTART is missing"},
		{"DURATION:PT2H30M\n", "", "DTEND and DURATION are missing"},
		{"DURATION:PT2H30M", "DURATION:soon", "not a DURATION"},
		{"DURATION:PT2H30M", "DURATION:PT0S", "not a DURATION"},
		{"DTEND;VALUE=DATE:20270103", "DTEND;VALUE=DATE:20261222", "the end is before the start"},
		{"FREQ=WEEKLY", "FREQ=SOMETIMES", "RRULE"},
		{"FREQ=WEEKLY;BYDAY=FR", "FREQ=SECONDLY", "more often than daily"},
		{"FREQ=WEEKLY;BYDAY=FR", "FREQ=HOURLY", "more often than daily"},
		{"EXDATE;TZID=Europe/Oslo:20261120T060000", "EXDATE:never", "EXDATE"},
		{"SUMMARY:Market day", "SUMMARY:" + strings.Repeat("x", 300<<10), "256 KiB"},
	} {
		text := strings.Replace(freezes, tt.old, tt.now, 1)
		if _, err := timing.ParseCalendar(text, time.UTC); !errors.Is(err, timing.ErrCalendar) || !strings.Contains(err.Error(), tt.says) {
			t.Errorf("%q in place of %q: %v", tt.now, tt.old, err)
		}
	}
}

// Openings and Enters agree with the window and its freezes minute by minute.
func TestOpeningsByBruteForce(t *testing.T) {
	c, err := timing.ParseCalendar(freezes, time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewPCG(3, 9))
	for range 20 {
		from := random.IntN(20)
		w, err := timing.ParseWindow([]string{"", "mon-thu", "fri", "sat,sun"}[random.IntN(4)],
			fmt.Sprintf("%02d:30-%02d:00", from, from+1+random.IntN(4)), []string{"", "Europe/Oslo", "Pacific/Auckland"}[random.IntN(3)])
		if err != nil {
			t.Fatal(err)
		}
		start := moment(t, "2026-11-02 00:00").AddDate(0, 0, random.IntN(50)).Add(time.Duration(random.IntN(1440)) * time.Minute)
		list := w.Openings(start, 14, c)
		within := func(list []timing.Opening, at time.Time) bool {
			return slices.ContainsFunc(list, func(o timing.Opening) bool { return !at.Before(o.From) && at.Before(o.To) })
		}
		in := func(at time.Time) bool { return within(list, at) }
		var frozen []timing.Opening
		for _, e := range c.Between(start, start.AddDate(0, 0, 14), 1000) {
			frozen = append(frozen, e.Opening)
		}
		market, err := timing.ParseWindow("mon-fri", "04:00-12:00", "Europe/Oslo")
		if err != nil {
			t.Fatal(err)
		}
		both := timing.Intersect(list, market.Openings(start, 14, timing.Calendar{}))
		if end := start.AddDate(0, 0, 14); len(list) > 0 && list[len(list)-1].To.After(end) {
			t.Fatalf("it looks beyond %s: %v", end, list)
		}
		entered := false
		for at := start; at.Before(start.AddDate(0, 0, 14)); at = at.Add(10 * time.Minute) {
			_, until := c.At(at)
			want := w.Holds(at) && until.IsZero()
			if in(at) != want || within(frozen, at) == until.IsZero() || within(both, at) != (want && market.Holds(at)) {
				t.Fatalf("%s: open %v, not %v: %v, frozen %v, with another window %v", at, in(at), want, list, frozen, both)
			}
			if want && !entered {
				entered = true
				if got := w.Enters(start, c); got.After(at) || got.Before(at.Add(-10*time.Minute)) {
					t.Fatalf("from %s it may be entered at %s, not %s", start, got, at)
				}
			}
		}
	}
}

// A freeze can be daily, and take less than a second.
func TestFreezeBoundaries(t *testing.T) {
	c, err := timing.ParseCalendar(strings.NewReplacer("FREQ=WEEKLY;BYDAY=FR", "FREQ=DAILY", "PT2H30M", "PT1S").Replace(freezes), time.UTC)
	if err != nil {
		t.Fatal(err)
	}
	if name, _ := c.At(moment(t, "2026-11-09 12:00")); name != "Market day" { // a Monday
		t.Errorf("each day: %q", name)
	}
}

// Durations in weeks, days and hours; a calendar has a thousand events at most.
func TestDurationsAndManyEvents(t *testing.T) {
	event := func(duration string) string {
		return "BEGIN:VEVENT\nUID:1\nDTSTART:20261101T000000Z\nDURATION:" + duration + "\nEND:VEVENT\n"
	}
	for duration, want := range map[string]string{"P1W": "2026-11-08 00:00", "+P2W": "2026-11-15 00:00", "P3D": "2026-11-04 00:00",
		"P1DT8H30M": "2026-11-02 08:30", "PT90M": "2026-11-01 01:30"} {
		c, err := timing.ParseCalendar("BEGIN:VCALENDAR\n"+event(duration)+"END:VCALENDAR\n", time.UTC)
		if err != nil {
			t.Fatal(err)
		}
		if _, until := c.At(moment(t, "2026-11-01 00:00")); !until.Equal(moment(t, want)) {
			t.Errorf("%s: until %s, not %s", duration, until, want)
		}
	}
	whole := "BEGIN:VCALENDAR\n" + event("PT1H") + "END:VCALENDAR\n"
	for size, ok := range map[int]bool{256 << 10: true, 256<<10 + 1: false} {
		if _, err := timing.ParseCalendar(whole+strings.Repeat("\n", size-len(whole)), time.UTC); (err == nil) != ok {
			t.Errorf("%d bytes: %v", size, err)
		}
	}
	for n, ok := range map[int]bool{1000: true, 1001: false} {
		_, err := timing.ParseCalendar("BEGIN:VCALENDAR\n"+strings.Repeat(event("PT1H"), n)+"END:VCALENDAR\n", time.UTC)
		if (err == nil) != ok {
			t.Errorf("%d events: %v", n, err)
		}
	}
}

// A stage that is frozen for more than a year has no next entry; the search is bounded.
func TestEntersWithinAYear(t *testing.T) {
	w, err := timing.ParseWindow("", "", "")
	if err != nil {
		t.Fatal(err)
	}
	from := moment(t, "2026-01-01 00:00")
	for end, want := range map[string]string{"20261231": "2026-12-31 00:00", "20270103": ""} {
		c, err := timing.ParseCalendar("BEGIN:VCALENDAR\nBEGIN:VEVENT\nUID:1\nDTSTART;VALUE=DATE:20251201\n"+
			"DTEND;VALUE=DATE:"+end+"\nEND:VEVENT\nEND:VCALENDAR\n", time.UTC)
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		if at := w.Enters(from, c); !at.IsZero() {
			got = at.UTC().Format("2006-01-02 15:04")
		}
		if got != want {
			t.Errorf("frozen until %s: entered at %q, not %q", end, got, want)
		}
	}
}

func FuzzCalendar(f *testing.F) {
	f.Add(freezes)
	f.Add("BEGIN:VCALENDAR\nBEGIN:VEVENT\nDTSTART:20260101\nRRULE:FREQ=YEARLY;COUNT=3\nEND:VEVENT\nEND:VCALENDAR\n")
	f.Fuzz(func(t *testing.T, text string) {
		c, err := timing.ParseCalendar(text, time.UTC)
		if err != nil {
			return
		}
		at := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
		if name, until := c.At(at); name != "" && !until.After(at) {
			t.Errorf("%s is over at %s", name, until)
		}
	})
}
