package timing

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"github.com/teambition/rrule-go"
)

// Calendar is a list of stretches of time that have a name, such as freezes: the events of
// an iCalendar text (RFC 5545). The zero value has none.
type Calendar struct {
	events []event
	named  int // in the text
}

// event is an event, or what one of its rules repeats.
type event struct {
	name string
	zone *time.Location
	// start is the wall clock of the first start, as a time of UTC; again repeats it, on the wall clock too.
	start time.Time
	again *rrule.Set // nil for a single event
	span  span
}

// span is a nominal duration (RFC 5545, 3.3.6): days of the calendar, and then a time.
type span struct {
	days int
	time time.Duration
}

// occurs returns an occurrence by the wall clock of its start.
func (e event) occurs(wall time.Time) Opening {
	end := wall.AddDate(0, 0, e.span.days)
	return Opening{fromWall(wall, e.zone), fromWall(end, e.zone).Add(e.span.time)}
}

// wallOf returns the wall clock of a zone as a time of UTC.
func wallOf(t time.Time, zone *time.Location) time.Time {
	t = t.In(zone)
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

// fromWall returns the first time at which a zone's wall clock shows a time; one that a clock change skips is counted
// with the offset before the change (RFC 5545, 3.3.5).
func fromWall(wall time.Time, zone *time.Location) time.Time {
	_, before := wall.Add(-26 * time.Hour).In(zone).Zone()
	at := wall.Add(-time.Duration(before) * time.Second)
	for { // the offset from the last change on
		start, end := at.In(zone).ZoneBounds()
		_, offset := at.In(zone).Zone()
		t := wall.Add(-time.Duration(offset) * time.Second)
		if !start.IsZero() && t.Before(start) { // it was skipped
			_, offset = start.Add(-time.Second).In(zone).Zone()
			return wall.Add(-time.Duration(offset) * time.Second)
		}
		if end.IsZero() || t.Before(end) {
			return t
		}
		at = end
	}
}

// margin is more than wall clocks of two zones and two offsets of one zone differ by.
const margin = 28 * time.Hour

// near returns the occurrences that overlap a period, or contain its time if it is one.
func (e event) near(from, to time.Time) (out []Opening) {
	add := func(wall time.Time) {
		if o := e.occurs(wall); !o.From.After(to) && o.To.After(from) && (o.From.Before(to) || !from.Before(to)) {
			out = append(out, o)
		}
	}
	if e.again == nil {
		add(e.start)
		return out
	}
	longest := time.Duration(e.span.days)*24*time.Hour + e.span.time + margin
	for _, wall := range e.again.Between(from.UTC().Add(-longest), to.UTC().Add(margin), true) {
		add(wall)
	}
	return out
}

// At returns the event at a time, the one that ends last, and its end; "" for none.
func (c Calendar) At(t time.Time) (name string, until time.Time) {
	for _, e := range c.events {
		for _, o := range e.near(t, t) {
			if o.To.After(until) {
				name, until = e.name, o.To
			}
		}
	}
	return name, until
}

// Next returns the start of the next event after a time, and its name; "" for none.
func (c Calendar) Next(t time.Time) (name string, begins time.Time) {
	for _, e := range c.events {
		start := fromWall(e.start, e.zone)
		if e.again != nil {
			wall := e.again.After(t.UTC().Add(-margin), false)
			for start = fromWall(wall, e.zone); !wall.IsZero() && !start.After(t); start = fromWall(wall, e.zone) {
				wall = e.again.After(wall, false)
			}
			if wall.IsZero() {
				continue
			}
		}
		if start.After(t) && (begins.IsZero() || start.Before(begins)) {
			name, begins = e.name, start
		}
	}
	return name, begins
}

// Opening is a period in which a stage can be entered.
type Opening struct{ From, To time.Time }

// Openings returns the periods of a window from a time on, for a number of days, without the events of a
// calendar.
func (w Window) Openings(from time.Time, days int, freezes Calendar) []Opening {
	end := from.AddDate(0, 0, days)
	var out []Opening
	for at := w.enters(from, end, freezes); !at.IsZero(); {
		closes := w.closes(at, end)
		if _, begins := freezes.Next(at); !begins.IsZero() && begins.Before(closes) {
			closes = begins
		}
		if n := len(out); n > 0 && out[n-1].To.Equal(at) {
			out[n-1].To = closes
		} else {
			out = append(out, Opening{at, closes})
		}
		at = w.enters(closes, end, freezes)
	}
	return slices.Clip(out)
}

// Intersect returns the periods that are in both lists; each list is sorted, and its periods do not overlap.
func Intersect(a, b []Opening) []Opening {
	var out []Opening
	for len(a) > 0 && len(b) > 0 {
		both := Opening{From: a[0].From, To: a[0].To}
		if b[0].From.After(both.From) {
			both.From = b[0].From
		}
		if b[0].To.Before(both.To) {
			both.To = b[0].To
		}
		if both.From.Before(both.To) {
			out = append(out, both)
		}
		if a[0].To.Before(b[0].To) {
			a = a[1:]
		} else {
			b = b[1:]
		}
	}
	return out
}

// Event is one occurrence of an event of a calendar.
type Event struct {
	Name string
	Opening
}

// Len returns the number of events in the text.
func (c Calendar) Len() int { return c.named }

// Contains reports whether each event of another calendar is in c, whatever its name.
func (c Calendar) Contains(other Calendar) bool {
	return !slices.ContainsFunc(other.events, func(e event) bool {
		return !slices.ContainsFunc(c.events, func(own event) bool { return own.same(e) })
	})
}

// same reports whether two events take the same time. Repetitions in two zones are not the same, because the clocks of
// the zones change at different times.
func (e event) same(other event) bool {
	if e.again == nil && other.again == nil {
		own, its := e.occurs(e.start), other.occurs(other.start)
		return own.From.Equal(its.From) && own.To.Equal(its.To)
	}
	return e.again != nil && other.again != nil && e.zone.String() == other.zone.String() && e.start.Equal(other.start) &&
		e.span == other.span && e.again.String() == other.again.String()
}

// Between returns the occurrences of events that overlap a period, sorted by their start, up to most.
func (c Calendar) Between(from, to time.Time, most int) []Event {
	var out []Event
	for _, e := range c.events {
		for _, o := range e.near(from, to) {
			out = append(out, Event{e.name, o})
		}
	}
	slices.SortFunc(out, func(a, b Event) int { return cmp.Or(a.From.Compare(b.From), strings.Compare(a.Name, b.Name)) })
	out = slices.CompactFunc(out, func(a, b Event) bool { // a date can be one of a rule's, too
		return a.Name == b.Name && a.From.Equal(b.From) && a.To.Equal(b.To)
	})
	return out[:min(len(out), most)]
}

// closes returns when a window that is open at a time closes; at the end at most.
func (w Window) closes(t, end time.Time) time.Time {
	for t = t.Truncate(time.Minute); t.Before(end); {
		local := t.In(w.zone)
		next := t.Add(time.Duration(w.to-local.Hour()*60-local.Minute()) * time.Minute) // unless the clock changes
		if _, change := local.ZoneBounds(); !change.IsZero() && change.Before(next) {
			next = change
		}
		if t = next; !w.Holds(t) {
			break
		}
	}
	if t.After(end) {
		return end
	}
	return t
}

// Enters returns the next time, from a time on, at which a stage can be entered: the window is open and nothing
// is frozen. The zero time if there is none within a year.
func (w Window) Enters(t time.Time, freezes Calendar) time.Time {
	return w.enters(t, t.AddDate(1, 0, 0), freezes)
}

// enters is Enters up to an end.
func (w Window) enters(t, end time.Time, freezes Calendar) time.Time {
	for at := t; at.Before(end); {
		if !w.Holds(at) {
			next := w.Opens(at)
			if !next.After(at) {
				break
			}
			at = next
			continue
		}
		_, until := freezes.At(at)
		if until.IsZero() {
			return at
		}
		at = until
	}
	return time.Time{}
}
