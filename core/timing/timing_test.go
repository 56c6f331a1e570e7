package timing_test

import (
	"strings"
	"testing"
	"time"

	"rudmar/core/timing"
)

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	z, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return z
}

func TestCronNext(t *testing.T) {
	tests := []struct{ cron, zone, after, want string }{
		{"*/10 * * * *", "UTC", "2026-11-23T08:03:00Z", "2026-11-23T08:10:00Z 2026-11-23T08:20:00Z"},
		{"30 6 * * *", "Europe/Oslo", "2026-11-23T08:00:00Z", "2026-11-24T05:30:00Z 2026-11-25T05:30:00Z"},
		{"0 0 1 1 *", "UTC", "2026-11-23T00:00:00Z", "2027-01-01T00:00:00Z 2028-01-01T00:00:00Z"},
		{"0 12 * * mon-fri", "UTC", "2026-11-20T12:00:00Z", "2026-11-23T12:00:00Z 2026-11-24T12:00:00Z"},
		{"0 12 * * 7", "UTC", "2026-11-20T12:00:00Z", "2026-11-22T12:00:00Z 2026-11-29T12:00:00Z"},
		{"0 0 29 2 *", "UTC", "2026-01-01T00:00:00Z", "2028-02-29T00:00:00Z 2032-02-29T00:00:00Z"},
		{"0 0 13 * fri", "UTC", "2026-11-01T00:00:00Z", "2026-11-06T00:00:00Z 2026-11-13T00:00:00Z"}, // either day counts
		{"5,35 8-9 * jan,feb *", "UTC", "2026-12-31T23:59:59Z", "2027-01-01T08:05:00Z 2027-01-01T08:35:00Z"},
		{"0-30/15 * * * *", "UTC", "2026-11-23T08:16:00Z", "2026-11-23T08:30:00Z 2026-11-23T09:00:00Z"},
		// 2026-03-29 02:00 to 03:00 does not exist in Oslo: it fires once, at 03:00.
		{"30 2 * * *", "Europe/Oslo", "2026-03-28T02:00:00Z", "2026-03-29T01:00:00Z 2026-03-30T00:30:00Z"},
		// 2026-10-25 02:00 to 03:00 exists twice in Oslo: it fires at the first.
		{"30 2 * * *", "Europe/Oslo", "2026-10-24T12:00:00Z", "2026-10-25T00:30:00Z 2026-10-26T01:30:00Z"},
		// Half an hour's change at Lord Howe Island.
		{"15 2 * * *", "Australia/Lord_Howe", "2026-10-02T16:00:00Z", "2026-10-03T15:30:00Z 2026-10-04T15:15:00Z"},
		// Midnight does not exist on this day in Santiago.
		{"0 0 * * *", "America/Santiago", "2026-09-05T05:00:00Z", "2026-09-06T04:00:00Z 2026-09-07T03:00:00Z"},
	}
	for _, tt := range tests {
		schedule, err := timing.Read(tt.cron, tt.zone, 0)
		if err != nil {
			t.Errorf("%s: %v", tt.cron, err)
			continue
		}
		after, err := time.Parse(time.RFC3339, tt.after)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, at := range schedule.Times(after, 2) {
			got = append(got, at.UTC().Format(time.RFC3339))
		}
		if strings.Join(got, " ") != tt.want {
			t.Errorf("%s in %s after %s: %v, want %s", tt.cron, tt.zone, tt.after, got, tt.want)
		}
	}
}

func TestCronRefuses(t *testing.T) {
	for text, says := range map[string]string{
		"": "five fields", "* * * *": "five fields", "60 * * * *": "minute", "* 24 * * *": "hour",
		"* * 0 * *": "day of month", "* * * 13 *": "month", "* * * * 8": "day of week",
		"*/0 * * * *": "step", "5-1 * * * *": "backwards", "a * * * *": "minute", "0 0 31 4 *": "never run",
		"* * * * monday": "day of week", "1, * * * *": "minute", "@daily": "five fields",
		"1,60 * * * *": "minute", "* 1,24 * * *": "hour", "* * 1,32 * *": "day of month", "* * * 1,13 *": "month",
		"* * * * 1,8": "day of week",
	} {
		if _, err := timing.ParseCron(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, want %q", text, err, says)
		}
	}
	if _, err := timing.ParseCron("59 23 31 12 7"); err != nil {
		t.Errorf("the last of each: %v", err)
	}
	if _, err := timing.Read("0 0 * * *", "Nowhere/City", 0); err == nil {
		t.Error("an unknown zone was taken")
	}
}

// In any zone, times rise strictly, and a daily schedule fires exactly once per day of a year.
func TestDailyScheduleAcrossClockChanges(t *testing.T) {
	for _, name := range []string{"Europe/Oslo", "America/New_York", "Australia/Lord_Howe", "America/Santiago",
		"Africa/Casablanca", "Asia/Kathmandu", "UTC"} {
		for _, text := range []string{"0 0 * * *", "30 1 * * *", "30 2 * * *", "0 3 * * *"} {
			schedule, err := timing.Read(text, name, 0)
			if err != nil {
				t.Fatal(err)
			}
			at := time.Date(2026, 1, 1, 12, 0, 0, 0, zone(t, name))
			days := map[string]int{}
			for range 365 {
				next, ok := schedule.Next(at)
				if !ok || !next.After(at) {
					t.Fatalf("%s in %s after %v: %v", text, name, at, next)
				}
				days[next.In(zone(t, name)).Format("2006-01-02")]++
				at = next
			}
			if len(days) != 365 {
				t.Errorf("%s in %s fires on %d days of 365", text, name, len(days))
			}
		}
	}
}

func TestEvery(t *testing.T) {
	schedule := timing.Schedule{Every: 10 * time.Minute}
	at := time.Date(2026, 11, 23, 8, 3, 20, 0, time.UTC)
	first, _ := schedule.Next(at)
	again, _ := schedule.Next(at.Add(time.Minute))
	if !first.Equal(time.Date(2026, 11, 23, 8, 10, 0, 0, time.UTC)) || !again.Equal(first) {
		t.Errorf("first %v, again %v", first, again)
	}
	if n := schedule.PerDay(at); n != 144 {
		t.Errorf("%d fires a day", n)
	}
	for every, fires := range map[time.Duration]bool{0: false, 999 * time.Millisecond: false, time.Second: true} {
		if _, ok := (timing.Schedule{Every: every}).Next(at); ok != fires {
			t.Errorf("every %s: it fires: %v", every, ok)
		}
	}
}

func TestWindow(t *testing.T) {
	w, err := timing.ParseWindow("mon-thu", "08:00-15:00", "Europe/Oslo")
	if err != nil {
		t.Fatal(err)
	}
	for at, want := range map[string]bool{
		"2026-11-23T07:00:00Z": true, "2026-11-23T06:59:59Z": false, "2026-11-23T13:59:59Z": true,
		"2026-11-23T14:00:00Z": false,
		"2026-11-27T10:00:00Z": false, "2026-07-06T06:00:00Z": true,
	} {
		moment, _ := time.Parse(time.RFC3339, at)
		if w.Holds(moment) != want {
			t.Errorf("%s: %v", at, !want)
		}
	}
	for text, want := range map[string]string{ // before the first opening of the day, in it, and at its start
		"2026-11-23T06:00:00Z": "2026-11-23T07:00:00Z", "2026-11-23T07:00:00Z": "2026-11-24T07:00:00Z",
		"2026-11-26T12:00:00Z": "2026-11-30T07:00:00Z",
	} {
		at, _ := time.Parse(time.RFC3339, text)
		if opens := w.Opens(at).UTC().Format(time.RFC3339); opens != want {
			t.Errorf("after %s it opens %s", text, opens)
		}
	}
	late, err := timing.ParseWindow("", "00:30-24:00", "")
	if err != nil || !late.Holds(time.Date(2026, 11, 22, 23, 59, 59, 0, time.UTC)) ||
		late.Holds(time.Date(2026, 11, 22, 0, 29, 59, 0, time.UTC)) {
		t.Errorf("to the end of the day: %v", err)
	}
	minute, err := timing.ParseWindow("", "22:59-23:59", "")
	if err != nil || minute.Holds(time.Date(2026, 11, 22, 23, 59, 0, 0, time.UTC)) ||
		!minute.Holds(time.Date(2026, 11, 22, 22, 59, 0, 0, time.UTC)) {
		t.Errorf("to the last minute of the day: %v", err)
	}
	friday, _ := time.Parse(time.RFC3339, "2026-11-27T10:00:00Z")
	if opens := w.Opens(friday).UTC().Format(time.RFC3339); opens != "2026-11-30T07:00:00Z" {
		t.Errorf("opens %s", opens)
	}
	weekend, err := timing.ParseWindow("fri-mon", "", "")
	if err != nil || !weekend.Holds(time.Date(2026, 11, 22, 23, 59, 0, 0, time.UTC)) ||
		weekend.Holds(time.Date(2026, 11, 24, 0, 0, 0, 0, time.UTC)) {
		t.Errorf("from friday to monday: %v", err)
	}
	for _, bad := range [][3]string{{"someday", "", ""}, {"mon-", "", ""}, {"", "8", ""}, {"", "15:00-08:00", ""},
		{"", "08:00-25:00", ""}, {"", "08:00-24:01", ""}, {"", "8-15:00", ""}, {"", "08:00-15", ""},
		{"", "08:00-08:00", ""}, {"", "07:60-09:00", ""}, {"", "-1:00-09:00", ""}, {"", "", "Oslo"},
		{"", "-1:30-09:00", ""}, {"", "08:-1-09:00", ""}} {
		if _, err := timing.ParseWindow(bad[0], bad[1], bad[2]); err == nil {
			t.Errorf("%v was taken", bad)
		}
	}
}

func FuzzCron(f *testing.F) {
	for _, s := range []string{"*/10 * * * *", "0 0 29 2 *", "1-5,7 * * jan mon"} {
		f.Add(s, int64(1_700_000_000))
	}
	f.Fuzz(func(t *testing.T, text string, unix int64) {
		c, err := timing.ParseCron(text)
		if err != nil || unix < 0 || unix > 4_000_000_000 {
			return
		}
		at := time.Unix(unix, 0).UTC()
		next, ok := c.Next(at)
		if ok && !next.After(at) {
			t.Errorf("%q after %v gives %v", text, at, next)
		}
	})
}
