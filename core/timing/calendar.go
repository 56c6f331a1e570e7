package timing

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	ical "github.com/arran4/golang-ical"
	"github.com/teambition/rrule-go"
)

// Calendar is a list of stretches of time that have a name, such as freezes: the events of
// an iCalendar text (RFC 5545). The zero value has none.
type Calendar struct{ events []event }

type event struct {
	name  string
	start time.Time
	long  time.Duration
	again *rrule.Set // nil for a single event
}

// Limits of a calendar.
const (
	maxCalendar = 256 << 10
	maxEvents   = 1000
)

// ErrCalendar reports an invalid or unsupported calendar.
var ErrCalendar = errors.New("not an iCalendar text (RFC 5545)")

// ParseCalendar reads the events of an iCalendar text. Dates without a time, and times
// without a zone, are of UTC. The error wraps ErrCalendar.
func ParseCalendar(text string) (Calendar, error) {
	var c Calendar
	if len(text) > maxCalendar {
		return c, fmt.Errorf("%w: more than 256 KiB", ErrCalendar)
	}
	parsed, err := ical.ParseCalendar(strings.NewReader(text))
	if err != nil {
		return c, fmt.Errorf("%w: %w", ErrCalendar, err)
	}
	list := parsed.Events()
	if len(list) > maxEvents {
		return c, fmt.Errorf("%w: %d events, the limit is %d", ErrCalendar, len(list), maxEvents)
	}
	for _, e := range list {
		if status := e.GetProperty(ical.ComponentPropertyStatus); status != nil && strings.EqualFold(status.Value, "CANCELLED") {
			continue
		}
		one, err := eventOf(e)
		if err != nil {
			return c, fmt.Errorf("%w: the event %q: %w", ErrCalendar, one.name, err)
		}
		c.events = append(c.events, one)
	}
	return c, nil
}

func eventOf(e *ical.VEvent) (event, error) {
	out := event{name: "an event without a name"}
	if p := e.GetProperty(ical.ComponentPropertySummary); p != nil && strings.TrimSpace(p.Value) != "" {
		out.name = strings.TrimSpace(p.Value)
	}
	begins := e.GetProperty(ical.ComponentPropertyDtStart)
	if begins == nil {
		return out, errors.New("DTSTART is missing")
	}
	allDay := len(begins.Value) == len("20060102")
	var err error
	if out.start, err = e.GetStartAt(); allDay {
		out.start, err = e.GetAllDayStartAt()
	}
	if err != nil {
		return out, fmt.Errorf("DTSTART: %w", err)
	}
	if out.long, err = length(e, out.start, allDay); err != nil {
		return out, err
	}
	rule := e.GetProperty(ical.ComponentPropertyRrule)
	if rule == nil {
		return out, nil
	}
	option, err := rrule.StrToROptionInLocation(rule.Value, out.start.Location())
	if err != nil {
		return out, fmt.Errorf("RRULE: %w", err)
	}
	option.Dtstart = out.start
	if option.Freq > rrule.DAILY { // hourly or more often: not a freeze
		return out, errors.New("RRULE repeats more often than daily")
	}
	r, err := rrule.NewRRule(*option)
	if err != nil {
		return out, fmt.Errorf("RRULE: %w", err)
	}
	out.again = &rrule.Set{}
	out.again.DTStart(out.start)
	out.again.RRule(r)
	for _, p := range e.GetProperties(ical.ComponentPropertyExdate) {
		for _, text := range strings.Split(p.Value, ",") {
			at, err := exception(text, out.start.Location())
			if err != nil {
				return out, fmt.Errorf("EXDATE: %w", err)
			}
			out.again.ExDate(at)
		}
	}
	return out, nil
}

// length returns how long an event is.
func length(e *ical.VEvent, start time.Time, allDay bool) (time.Duration, error) {
	if e.GetProperty(ical.ComponentPropertyDtEnd) == nil {
		if p := e.GetProperty(ical.ComponentPropertyDuration); p != nil {
			return rfcDuration(p.Value)
		}
		if allDay {
			return 24 * time.Hour, nil
		}
		return 0, errors.New("DTEND and DURATION are missing")
	}
	end, err := e.GetEndAt()
	if allDay {
		end, err = e.GetAllDayEndAt()
	}
	switch {
	case err != nil:
		return 0, fmt.Errorf("DTEND: %w", err)
	case !end.After(start):
		return 0, errors.New("the end is before the start")
	}
	return end.Sub(start), nil
}

// rfcDuration reads a duration of RFC 5545 (3.3.6), such as P1W, P3D or PT8H30M.
func rfcDuration(text string) (time.Duration, error) {
	rest, ok := strings.CutPrefix(strings.TrimPrefix(text, "+"), "P")
	const day = 24 * time.Hour
	units := map[rune]time.Duration{'W': 7 * day, 'D': day, 'H': time.Hour, 'M': time.Minute, 'S': time.Second}
	var out time.Duration
	n, digits := time.Duration(0), 0
	for _, r := range rest {
		switch {
		case r == 'T':
		case r >= '0' && r <= '9' && digits < 6:
			n, digits = n*10+time.Duration(r-'0'), digits+1
		case units[r] > 0 && digits > 0:
			out, n, digits = out+n*units[r], 0, 0
		default:
			ok = false
		}
	}
	if !ok || digits > 0 || out <= 0 {
		return 0, fmt.Errorf("%q is not a DURATION", text)
	}
	return out, nil
}

func exception(text string, zone *time.Location) (time.Time, error) {
	for _, form := range []string{"20060102T150405Z", "20060102T150405", "20060102"} {
		if at, err := time.ParseInLocation(form, strings.TrimSpace(text), zone); err == nil {
			return at, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a time", text)
}

// At returns the event at a time, the one that ends last, and its end; "" for none.
func (c Calendar) At(t time.Time) (name string, until time.Time) {
	for _, e := range c.events {
		start := e.start
		if e.again != nil {
			start = e.again.Before(t, true)
		}
		if end := start.Add(e.long); !start.IsZero() && !t.Before(start) && t.Before(end) && end.After(until) {
			name, until = e.name, end
		}
	}
	return name, until
}

// Next returns the start of the next event after a time, and its name; "" for none.
func (c Calendar) Next(t time.Time) (name string, begins time.Time) {
	for _, e := range c.events {
		start := e.start
		if e.again != nil {
			start = e.again.After(t, false)
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

// Len returns the number of events.
func (c Calendar) Len() int { return len(c.events) }

// Contains reports whether each event of another calendar is in c, whatever its name.
func (c Calendar) Contains(other Calendar) bool {
	return !slices.ContainsFunc(other.events, func(e event) bool {
		return !slices.ContainsFunc(c.events, func(own event) bool { return own.same(e) })
	})
}

func (e event) same(other event) bool {
	if !e.start.Equal(other.start) || e.long != other.long || (e.again == nil) != (other.again == nil) {
		return false
	}
	return e.again == nil || e.again.String() == other.again.String()
}

// Between returns the occurrences of events that overlap a period, sorted by their start, up to most.
func (c Calendar) Between(from, to time.Time, most int) []Event {
	var out []Event
	for _, e := range c.events {
		add := func(start time.Time) {
			if end := start.Add(e.long); !start.IsZero() && start.Before(to) && end.After(from) {
				out = append(out, Event{e.name, Opening{start, end}})
			}
		}
		if e.again == nil {
			add(e.start)
			continue
		}
		for _, start := range e.again.Between(from.Add(-e.long), to, true) {
			add(start)
		}
	}
	slices.SortFunc(out, func(a, b Event) int { return cmp.Or(a.From.Compare(b.From), strings.Compare(a.Name, b.Name)) })
	return out[:min(len(out), most)]
}

// closes returns when a window that is open at a time closes; at the end at most.
func (w Window) closes(t, end time.Time) time.Time {
	y, m, d := t.In(w.zone).Date()
	at := resolve(y, m, d, w.to/60, w.to%60, w.zone)
	if at.After(end) {
		return end
	}
	return at
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
