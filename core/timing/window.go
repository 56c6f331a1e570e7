package timing

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Written is how a minute is written for people, for time.Time.Format.
const Written = "2006-01-02 15:04 MST"

// Window is a stretch of the week: some days, and hours of those days.
type Window struct {
	days     [7]bool
	from, to int // minutes of the day; to is exclusive
	zone     *time.Location
}

// ParseWindow reads days such as "mon-thu" or "mon,wed" (empty for all), hours
// such as "08:00-15:00" (empty for all), and a zone (empty for UTC).
func ParseWindow(days, hours, zone string) (Window, error) {
	w := Window{to: 24 * 60, zone: time.UTC}
	if zone != "" {
		location, err := time.LoadLocation(zone)
		if err != nil {
			return w, fmt.Errorf("%q is not a time zone", zone)
		}
		w.zone = location
	}
	if days == "" {
		days = "sun-sat"
	}
	week := field{name: "days", low: 0, high: 6, names: fields()[4].names}
	for _, item := range strings.Split(days, ",") {
		first, last, ranged := strings.Cut(strings.TrimSpace(item), "-")
		from, err := week.number(first)
		if err != nil {
			return w, fmt.Errorf("%q is not a day; write mon, tue, wed, thu, fri, sat or sun", first)
		}
		to := from
		if ranged {
			if to, err = week.number(last); err != nil {
				return w, fmt.Errorf("%q is not a day; write mon, tue, wed, thu, fri, sat or sun", last)
			}
		}
		for d := from; ; d = (d + 1) % 7 {
			w.days[d] = true
			if d == to {
				break
			}
		}
	}
	if hours == "" {
		return w, nil
	}
	first, last, ok := strings.Cut(hours, "-")
	from, errFrom := clock(first)
	to, errTo := clock(last)
	if !ok || errFrom != nil || errTo != nil || to <= from {
		return w, fmt.Errorf("%q are not hours; write 08:00-15:00", hours)
	}
	w.from, w.to = from, to
	return w, nil
}

func clock(text string) (int, error) {
	var h, m int
	if n, err := fmt.Sscanf(strings.TrimSpace(text), "%d:%d", &h, &m); err != nil || n != 2 || h < 0 || h > 24 ||
		m < 0 || m > 59 || h*60+m > 24*60 {
		return 0, fmt.Errorf("%q is not a time of day", text)
	}
	return h*60 + m, nil
}

// Holds reports whether t is in the window.
func (w Window) Holds(t time.Time) bool {
	t = t.In(w.zone)
	minute := t.Hour()*60 + t.Minute()
	return w.days[t.Weekday()] && minute >= w.from && minute < w.to
}

// Opens returns when the window next opens after t.
func (w Window) Opens(t time.Time) time.Time {
	y, m, d := t.In(w.zone).Date()
	for i := range 8 {
		at := []time.Time{resolve(y, m, d+i, w.from/60, w.from%60, w.zone)}
		_, change := resolve(y, m, d+i, 0, 0, w.zone).ZoneBounds()
		if change.Before(resolve(y, m, d+i+1, 0, 0, w.zone)) && !change.IsZero() { // the clock can jump into the window
			_, before := change.Add(-time.Second).In(w.zone).Zone()
			_, after := change.In(w.zone).Zone()
			at = append(at, change, at[0].Add(time.Duration(before-after)*time.Second)) // or show its start again
		}
		slices.SortFunc(at, time.Time.Compare)
		for _, opens := range at {
			if opens.After(t) && w.Holds(opens) && (w.from == 0 || !w.Holds(opens.Add(-time.Minute))) {
				return opens
			}
		}
	}
	return t
}

// Zone returns the zone of the window's hours, in which the days of its freezes are counted.
func (w Window) Zone() *time.Location { return w.zone }

// Local returns a time in the window's zone.
func (w Window) Local(t time.Time) time.Time { return t.In(w.zone) }
