// Package timing computes points in time: the next runs of a cron expression or an interval in a
// time zone, time windows, and calendars (RFC 5545).
//
// All its functions can be called concurrently.
package timing

import (
	"fmt"
	"math/bits"
	"strconv"
	"strings"
	"time"
)

// Cron is a parsed expression of five fields: minute, hour, day of month, month and day of week. If both day
// fields are restricted either one matches, as in cron.
type Cron struct {
	minute, hour, day, month, weekday uint64
	anyDay, anyWeekday                bool
}

type field struct {
	name      string
	low, high int
	names     []string
}

func fields() [5]field {
	return [5]field{
		{"minute", 0, 59, nil},
		{"hour", 0, 23, nil},
		{"day of month", 1, 31, nil},
		{"month", 1, 12, []string{"jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"}},
		{"day of week", 0, 7, []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}},
	}
}

// ParseCron parses a cron expression of five fields. The error names the wrong field and its valid values.
func ParseCron(text string) (Cron, error) {
	words := strings.Fields(text)
	if len(words) != 5 {
		return Cron{}, fmt.Errorf(
			"a cron expression has five fields (minute, hour, day of month, month, day of week); this one has %d", len(words))
	}
	var sets [5]uint64
	for i, f := range fields() {
		set, err := f.parse(words[i])
		if err != nil {
			return Cron{}, err
		}
		sets[i] = set
	}
	c := Cron{minute: sets[0], hour: sets[1], day: sets[2], month: sets[3], weekday: sets[4]}
	if c.weekday&(1<<7) != 0 { // 7 is Sunday too
		c.weekday = c.weekday&^(1<<7) | 1
	}
	c.anyDay, c.anyWeekday = strings.HasPrefix(words[2], "*"), strings.HasPrefix(words[4], "*")
	if _, ok := c.Next(time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC)); !ok {
		return Cron{}, fmt.Errorf("this day does not exist in any year, so the schedule would never run")
	}
	return c, nil
}

func (f field) parse(word string) (uint64, error) {
	var set uint64
	for _, item := range strings.Split(word, ",") {
		span, stepText, stepped := strings.Cut(item, "/")
		step := 1
		if stepped {
			n, err := strconv.Atoi(stepText)
			if err != nil || n < 1 || n > f.high {
				return 0, fmt.Errorf("%s: %q is not a step; use a number from 1 to %d", f.name, stepText, f.high)
			}
			step = n
		}
		low, high := f.low, f.high
		if span != "*" {
			from, to, ranged := strings.Cut(span, "-")
			var err error
			if low, err = f.number(from); err != nil {
				return 0, err
			}
			switch {
			case ranged:
				if high, err = f.number(to); err != nil {
					return 0, err
				}
			case !stepped:
				high = low
			}
			if high < low {
				return 0, fmt.Errorf("%s: %s runs backwards", f.name, span)
			}
		}
		for n := low; n <= high; n += step {
			set |= 1 << n
		}
	}
	return set, nil
}

func (f field) number(text string) (int, error) {
	for i, name := range f.names {
		if strings.EqualFold(text, name) {
			return i + f.low, nil
		}
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < f.low || n > f.high {
		return 0, fmt.Errorf("%s: %q is not a number from %d to %d", f.name, text, f.low, f.high)
	}
	return n, nil
}

// Next returns the first time after t that matches the expression, in t's zone; false if there is none within
// thirty years. A local time that a clock change skips fires at the first time after the gap; one that a clock
// change repeats fires at its first occurrence.
func (c Cron) Next(t time.Time) (time.Time, bool) {
	zone := t.Location()
	year, month, day := t.Date()
	for i := 0; i < 366*30; i++ {
		y, m, d := time.Date(year, month, day+i, 12, 0, 0, 0, time.UTC).Date()
		if !c.onDay(y, m, d) {
			continue
		}
		if at, ok := c.nextOnDay(y, m, d, t, zone); ok {
			return at, true
		}
	}
	return time.Time{}, false
}

func (c Cron) onDay(y int, m time.Month, d int) bool {
	if c.month&(1<<int(m)) == 0 {
		return false
	}
	weekday := time.Date(y, m, d, 12, 0, 0, 0, time.UTC).Weekday()
	inDay, inWeekday := c.day&(1<<d) != 0, c.weekday&(1<<int(weekday)) != 0
	if c.anyDay || c.anyWeekday {
		return inDay && inWeekday
	}
	return inDay || inWeekday
}

func (c Cron) nextOnDay(y int, m time.Month, d int, after time.Time, zone *time.Location) (time.Time, bool) {
	for hours := c.hour; hours != 0; hours &= hours - 1 {
		h := bits.TrailingZeros64(hours)
		for minutes := c.minute; minutes != 0; minutes &= minutes - 1 {
			if at := resolve(y, m, d, h, bits.TrailingZeros64(minutes), zone); at.After(after) {
				return at, true
			}
		}
	}
	return time.Time{}, false
}

// resolve turns a local time into a moment by the rules of Next.
func resolve(y int, m time.Month, d, h, min int, zone *time.Location) time.Time {
	y, m, d = time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Date() // the 32nd is a day of the next month
	at := time.Date(y, m, d, h, min, 0, 0, zone)
	if at.Hour() != h || at.Minute() != min || at.Day() != d {
		// The gap: time.Date returns a time on one side of it. The first time after the gap is where the offset
		// changes.
		_, gapEnd := at.Add(-3 * time.Hour).ZoneBounds()
		if gapEnd.IsZero() || gapEnd.After(at.Add(3*time.Hour)) {
			return at
		}
		return gapEnd.In(zone)
	}
	// The first of two occurrences: the same wall clock before the change.
	start, _ := at.ZoneBounds()
	if !start.IsZero() {
		_, before := start.Add(-time.Second).In(zone).Zone()
		_, now := at.Zone()
		if earlier := at.Add(time.Duration(now-before) * time.Second); before > now && earlier.Before(start) {
			return earlier
		}
	}
	return at
}
