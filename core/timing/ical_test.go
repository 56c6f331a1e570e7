package timing_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"rudmar/core/timing"
)

func oslo(t *testing.T) *time.Location {
	t.Helper()
	zone, err := time.LoadLocation("Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	return zone
}

func calendarOf(events ...string) string {
	text := "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//Brambleford//EN\n"
	for _, e := range events {
		text += "BEGIN:VEVENT\nUID:1\nSUMMARY:x\n" + e + "\nEND:VEVENT\n"
	}
	return text + "END:VCALENDAR\n"
}

// Events with their occurrences in 2026, in a window of Oslo; an error for what is not understood.
func TestEvents(t *testing.T) {
	const day, three = "2006-01-02 15:04", "DTSTART:20260301T080000Z\nDURATION:PT1H\n"
	for _, tt := range []struct{ event, want string }{
		{"DTSTART;VALUE=DATE:20260301", "2026-02-28 23:00 to 2026-03-01 23:00"},
		{"DTSTART:20260301", "2026-02-28 23:00 to 2026-03-01 23:00"},
		{"DTSTART;VALUE=DATE:20260328\nDTEND;VALUE=DATE:20260330", "2026-03-27 23:00 to 2026-03-29 22:00"},
		{"DTSTART;VALUE=DATE:20260328\nDURATION:P2D", "2026-03-27 23:00 to 2026-03-29 22:00"},
		{"DTSTART;TZID=Europe/Oslo:20260328T120000\nDURATION:P1D", "2026-03-28 11:00 to 2026-03-29 10:00"},
		{"DTSTART;TZID=Europe/Oslo:20260328T120000\nDURATION:PT24H", "2026-03-28 11:00 to 2026-03-29 11:00"},
		{"DTSTART;TZID=Europe/Oslo:20260328T120000\nDURATION:P1DT1H", "2026-03-28 11:00 to 2026-03-29 11:00"},
		{"DTSTART:20260301T120000\nDURATION:PT1H", "2026-03-01 11:00 to 2026-03-01 12:00"},
		{"DTSTART;TZID=Asia/Tokyo:20260301T090000\nDTEND:20260301T010000Z", "2026-03-01 00:00 to 2026-03-01 01:00"},
		{"dtstart;tzid=Europe/Oslo:20260301T090000\ndtend;tzid=Europe/Oslo:20260301T100000", "2026-03-01 08:00 to 2026-03-01 09:00"},
		{three + "RDATE:20260305T080000Z,20260306T080000Z", "2026-03-01 08:00, 2026-03-05 08:00, 2026-03-06 08:00"},
		{three + "RDATE;VALUE=PERIOD:20260305T080000Z/PT3H", "2026-03-01 08:00, 2026-03-05 08:00 to 2026-03-05 11:00"},
		{three + "RDATE;VALUE=PERIOD:20260305T080000Z/20260305T093000Z", "2026-03-01 08:00, 2026-03-05 08:00 to 2026-03-05 09:30"},
		{three + "RDATE:20260305T080000Z\nRRULE:FREQ=MONTHLY;COUNT=2", "2026-03-01 08:00, 2026-03-05 08:00, 2026-04-01 08:00"},
		{three + "RRULE:FREQ=MONTHLY;COUNT=2\nRRULE:FREQ=YEARLY;BYMONTH=6;BYMONTHDAY=1;COUNT=1", "2026-03-01 08:00, 2026-04-01 08:00, 2026-06-01 08:00"},
		{three + "rrule:freq=daily;count=2", "2026-03-01 08:00, 2026-03-02 08:00"},
		{three + "RRULE:FREQ=DAILY;UNTIL=20260302", "2026-03-01 08:00, 2026-03-02 08:00"},
		{three + "RRULE:FREQ=DAILY;UNTIL=20260302T075959Z", "2026-03-01 08:00"},
		{three + "RRULE:FREQ=DAILY;COUNT=3\nEXDATE:20260302T080000Z", "2026-03-01 08:00, 2026-03-03 08:00"},
		{three + "RRULE:FREQ=DAILY;COUNT=3\nEXDATE;TZID=Europe/Oslo:20260302T090000,20260303T090000", "2026-03-01 08:00"},
		{"DTSTART;TZID=Europe/Oslo:20260301T090000\nDURATION:PT1H\nRRULE:FREQ=DAILY;COUNT=2\nEXDATE:20260302T080000Z", "2026-03-01 08:00"},
		{"DTSTART;TZID=Europe/Oslo:20260328T023000\nDURATION:PT1H\nRRULE:FREQ=DAILY;COUNT=3", "2026-03-28 01:30, 2026-03-29 01:30, 2026-03-30 00:30"},
		{"DTSTART;TZID=Europe/Oslo:20261024T023000\nDURATION:PT1H\nRRULE:FREQ=DAILY;COUNT=3", "2026-10-24 00:30, 2026-10-25 00:30, 2026-10-26 01:30"},
		{three + "RRULE:FREQ=DAILY;COUNT=2\nEND:VEVENT\nBEGIN:VEVENT\nUID:1\nRECURRENCE-ID:20260302T080000Z\nDTSTART:20260302T120000Z\nDURATION:PT1H",
			"2026-03-01 08:00, 2026-03-02 12:00"},
		{three + "RRULE:FREQ=DAILY;COUNT=2\nEND:VEVENT\nBEGIN:VEVENT\nUID:1\nRECURRENCE-ID:20260302T080000Z\nSTATUS:CANCELLED\nDTSTART:20260302T080000Z\nDURATION:PT1H",
			"2026-03-01 08:00"},
		{three + "TRANSP:TRANSPARENT", ""},
		{three + "TRANSP:OPAQUE\nX-OWN:1\nCLASS:PUBLIC\nBEGIN:VALARM\nACTION:DISPLAY\nEND:VALARM", "2026-03-01 08:00"},
		{three + "STATUS:CANCELLED", ""},
		{three + "EXRULE:FREQ=DAILY", "EXRULE is not known"},
		{three + "RECURRENCE-ID;RANGE=THISANDFUTURE:20260301T080000Z", "RANGE is not supported"},
		{three + "RRULE:FREQ=DAILY;EVERY=2", "RRULE"},
		{three + "RRULE:FREQ=DAILY;COUNT=3\nEXDATE;VALUE=DATE:20260302", "EXDATE and DTSTART"},
		{"DTSTART;TZID=Oslo-by-the-sea:20260301T090000\nDURATION:PT1H", "not a time zone"},
		{three + "DTEND:20260301T090000Z", "one of DTEND and DURATION"},
		{"DTSTART:20260301\nDURATION:P999999W", "longer than 3660 days"},
		{"DTSTART:20260301T080000Z\nDURATION:PT999999H999999H999999H", "longer than 3660 days"},
		{"DTSTART:00010301\nDTEND:99990301", "longer than 3660 days"},
	} {
		c, err := timing.ParseCalendar(calendarOf(tt.event), oslo(t))
		if err != nil {
			if tt.want == "" || !strings.Contains(err.Error(), tt.want) {
				t.Errorf("%s: %v", tt.event, err)
			}
			continue
		}
		var got []string
		for _, e := range c.Between(moment(t, "2026-01-01 00:00"), moment(t, "2027-01-01 00:00"), 100) {
			o := e.From.UTC().Format(day)
			if e.To.Sub(e.From) != time.Hour || strings.Contains(tt.want, o+" to") {
				o += " to " + e.To.UTC().Format(day)
			}
			got = append(got, o)
			if name, until := c.At(e.From); name != "x" && name != "an event without a name" || until.Before(e.To) {
				t.Errorf("%s: at its start %q until %s", tt.event, name, until)
			}
			if _, next := c.Next(e.From.Add(-time.Second)); !next.Equal(e.From) {
				t.Errorf("%s: the next one starts at %s, not %s", tt.event, next, e.From)
			}
		}
		if strings.Join(got, ", ") != tt.want {
			t.Errorf("%s:\n got %s\nwant %s", tt.event, strings.Join(got, ", "), tt.want)
		}
	}
	for text, says := range map[string]string{
		strings.Replace(calendarOf("DTSTART:20260301"), "VERSION", "CALSCALE:ETHIOPIC\nVERSION", 1):                    "ETHIOPIC",
		strings.Replace(calendarOf("DTSTART:20260301"), "VERSION", "METHOD:CANCEL\nVERSION", 1):                        "CANCEL",
		strings.Replace(calendarOf("DTSTART:20260301"), "VERSION", "FREEZE:ALL\nVERSION", 1):                           "FREEZE is not known",
		strings.ReplaceAll(calendarOf("DTSTART:20260301"), "VEVENT", "VFREEBUSY"):                                      "VFREEBUSY is not supported",
		strings.Replace(calendarOf("DTSTART:20260301"), "END:VEVENT\n", "", 1):                                         "ends nothing",
		calendarOf("DTSTART:20260301") + calendarOf("DTSTART:20260302"):                                                "one VCALENDAR",
		strings.Replace(calendarOf("DTSTART:20260301"), "END:VEVENT\n", "BEGIN:VFREEZE\nEND:VFREEZE\nEND:VEVENT\n", 1): "VFREEZE is not supported",
	} {
		if _, err := timing.ParseCalendar(text, time.UTC); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// A calendar contains the same period in another form, but not a repetition by another zone's clock.
func TestContains(t *testing.T) {
	const weekly = "\nDURATION:PT1H\nRRULE:FREQ=WEEKLY"
	for _, tt := range []struct {
		own, other string
		want       bool
	}{
		{"DTSTART:20260301T080000Z\nDURATION:P1D", "DTSTART;TZID=Europe/Oslo:20260301T090000\nDURATION:PT24H", true},
		{"DTSTART:20260301T080000Z\nDURATION:P1D", "DTSTART:20260301T080000Z\nDURATION:PT23H", false},
		{"DTSTART;TZID=Europe/London:20260105T080000" + weekly, "DTSTART;TZID=Europe/London:20260105T080000" + weekly, true},
		{"DTSTART;TZID=Europe/London:20260105T080000" + weekly, "DTSTART:20260105T080000Z" + weekly, false}, // other in summer
		{"DTSTART:20260105T080000Z" + weekly, "DTSTART:20260105T080000Z\nDURATION:PT1H", false},
	} {
		var parsed [2]timing.Calendar
		for i, text := range []string{tt.own, tt.other} {
			var err error
			if parsed[i], err = timing.ParseCalendar(calendarOf(text), time.UTC); err != nil {
				t.Fatal(err)
			}
		}
		if got := parsed[0].Contains(parsed[1]); got != tt.want {
			t.Errorf("%s contains %s: %v", tt.own, tt.other, got)
		}
	}
}

// randomEvents returns a recurring event, sometimes with exceptions and dates.
func randomEvents(rng *rand.Rand) []string {
	start := time.Date(2026, 1, 1, 8, 0, 0, 0, time.UTC).AddDate(0, 0, rng.IntN(360))
	const utc = "20060102T150405Z"
	day := strings.ToUpper(start.Weekday().String()[:2])
	rule := []string{
		fmt.Sprintf("FREQ=DAILY;INTERVAL=%d", 1+rng.IntN(4)),
		fmt.Sprintf("FREQ=WEEKLY;INTERVAL=%d;BYDAY=%s,SA", 1+rng.IntN(3), day),
		fmt.Sprintf("FREQ=WEEKLY;WKST=SU;INTERVAL=2;BYDAY=SU,%s", day),
		fmt.Sprintf("FREQ=MONTHLY;BYMONTHDAY=%d", start.Day()),
		fmt.Sprintf("FREQ=MONTHLY;BYMONTHDAY=%d,-1", start.Day()),
		fmt.Sprintf("FREQ=MONTHLY;BYDAY=%d%s", (start.Day()-1)/7+1, day),
		fmt.Sprintf("FREQ=YEARLY;BYMONTH=%d;BYMONTHDAY=%d", start.Month(), start.Day()),
		fmt.Sprintf("FREQ=DAILY;BYDAY=MO,WE,%s", day),
	}[rng.IntN(8)]
	switch rng.IntN(3) {
	case 0:
		rule += fmt.Sprintf(";COUNT=%d", 1+rng.IntN(20))
	case 1:
		rule += ";UNTIL=" + start.AddDate(0, rng.IntN(20), 0).Format(utc)
	}
	master := "DTSTART:" + start.Format(utc) + "\nDURATION:PT1H\nRRULE:" + rule
	other := start.AddDate(0, 0, rng.IntN(30))
	if rng.IntN(3) == 0 {
		master += "\nEXDATE:" + other.Format(utc)
	}
	if rng.IntN(3) == 0 {
		master += "\nRDATE:" + start.AddDate(0, 0, 1+rng.IntN(100)).Add(3*time.Hour).Format(utc)
	}
	return []string{master}
}

// 2000 random calendars have the occurrences that an independent library finds.
func TestOccurrencesByAnotherLibrary(t *testing.T) {
	rng := rand.New(rand.NewPCG(29, 4))
	var texts []string
	for range 2000 {
		texts = append(texts, calendarOf(randomEvents(rng)...))
	}
	input, err := json.Marshal(texts)
	if err != nil {
		t.Fatal(err)
	}
	command := exec.CommandContext(t.Context(), "node", "testdata/occurrences.mjs")
	command.Stdin = bytes.NewReader(input)
	var problems strings.Builder
	command.Stderr = &problems
	output, err := command.Output()
	if err != nil {
		t.Fatalf("%v: %s (make setup installs the library)", err, problems.String())
	}
	var want [][]int64
	if err := json.Unmarshal(output, &want); err != nil || len(want) != len(texts) {
		t.Fatalf("%d lists: %v", len(want), err)
	}
	from, to := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC), time.Date(2029, 1, 1, 0, 0, 0, 0, time.UTC)
	wrong := 0
	for i, text := range texts {
		c, err := timing.ParseCalendar(text, oslo(t))
		if err != nil {
			t.Fatalf("%s: %v", text, err)
		}
		var got []int64
		for _, e := range c.Between(from, to, 5000) {
			got = append(got, e.From.Unix())
		}
		if want[i] = slices.Compact(want[i]); !slices.Equal(got, want[i]) {
			if wrong++; wrong < 4 {
				t.Errorf("%s:\n got %v\nwant %v", text, got[:min(len(got), 8)], want[i][:min(len(want[i]), 8)])
			}
		}
	}
	if wrong > 0 {
		t.Errorf("%d of %d differ", wrong, len(texts))
	}
}

// Openings agree with Holds minute by minute around the clock changes.
func TestOpeningsAtClockChanges(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 29))
	changes := map[string][]string{"Europe/Oslo": {"2026-03-28 12:00", "2026-10-24 12:00"}, "America/New_York": {"2026-03-07 12:00", "2026-10-31 12:00"},
		"Australia/Lord_Howe": {"2026-04-04 00:00", "2026-10-03 00:00"}, "America/Santiago": {"2026-04-04 12:00", "2026-09-05 12:00"}}
	for zone, starts := range changes {
		for range 60 {
			from := rng.IntN(10) * 30
			w, err := timing.ParseWindow([]string{"", "sun", "sat-sun", "mon"}[rng.IntN(4)],
				fmt.Sprintf("%02d:%02d-%02d:%02d", from/60, from%60, (from+30+rng.IntN(4)*30)/60, from%60), zone)
			if err != nil {
				continue // the end is not after the start
			}
			begin := moment(t, starts[rng.IntN(2)])
			open := w.Openings(begin, 2, timing.Calendar{})
			for at := begin; at.Before(begin.AddDate(0, 0, 2)); at = at.Add(time.Minute) {
				in := slices.ContainsFunc(open, func(o timing.Opening) bool { return !at.Before(o.From) && at.Before(o.To) })
				if in != w.Holds(at) {
					t.Fatalf("%s: at %s %v, but in %v %v", zone, w.Local(at), w.Holds(at), open, in)
				}
			}
		}
	}
}
