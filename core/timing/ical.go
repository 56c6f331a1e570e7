package timing

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	ical "github.com/arran4/golang-ical"
	"github.com/teambition/rrule-go"
)

// Limits of a calendar.
const (
	maxCalendar = 256 << 10
	maxEvents   = 1000
	longestDays = 3660 // of an event
)

// ErrCalendar reports an invalid or unsupported calendar.
var ErrCalendar = errors.New("not an iCalendar text (RFC 5545)")

// component is a part of an iCalendar text, with names in capitals.
type component struct {
	name  string
	lines []line
	parts []component
}

// line is a property.
type line struct {
	name, value string
	params      map[string]string // of names in capitals; the first value of each
}

// ParseCalendar reads the events of an iCalendar text. Days, and times without a zone, are those of a zone. What it
// does not understand is an error, because it could freeze. The error wraps ErrCalendar.
func ParseCalendar(text string, zone *time.Location) (Calendar, error) {
	var c Calendar
	if len(text) > maxCalendar {
		return c, fmt.Errorf("%w: more than 256 KiB", ErrCalendar)
	}
	root, err := componentsOf(text)
	if err != nil {
		return c, fmt.Errorf("%w: %w", ErrCalendar, err)
	}
	var list []component
	for _, part := range root.parts {
		switch part.name {
		case "VEVENT":
			list = append(list, part)
		case "VTIMEZONE", "VTODO", "VJOURNAL": // zones are known by name, and the others take no time
		default:
			return c, fmt.Errorf("%w: %s is not supported", ErrCalendar, part.name)
		}
	}
	for _, l := range root.lines {
		switch {
		case l.name == "CALSCALE" && !strings.EqualFold(l.value, "GREGORIAN"), l.name == "METHOD" && strings.EqualFold(l.value, "CANCEL"):
			return c, fmt.Errorf("%w: %s:%s is not supported", ErrCalendar, l.name, l.value)
		case !slices.Contains(ofCalendar(), l.name) && !strings.HasPrefix(l.name, "X-"):
			return c, fmt.Errorf("%w: the property %s is not known", ErrCalendar, l.name)
		}
	}
	if len(list) > maxEvents {
		return c, fmt.Errorf("%w: %d events, the limit is %d", ErrCalendar, len(list), maxEvents)
	}
	read := make([]*vevent, len(list))
	moved := map[string][]moment{} // by UID: occurrences that have an event of their own
	for i, part := range list {
		if read[i], err = eventOf(part, zone); err != nil {
			return c, fmt.Errorf("%w: the event %q: %w", ErrCalendar, read[i].name, err)
		}
		if read[i].instead != nil {
			moved[read[i].uid] = append(moved[read[i].uid], *read[i].instead)
		}
	}
	for _, e := range read {
		if e.off {
			continue
		}
		if e.instead == nil {
			e.except = append(e.except, moved[e.uid]...)
		}
		c.events = append(c.events, e.events()...)
		c.named++
	}
	return c, nil
}

func ofCalendar() []string {
	return []string{"VERSION", "PRODID", "CALSCALE", "METHOD", "NAME", "DESCRIPTION", "UID", "LAST-MODIFIED", "URL", "CATEGORIES",
		"REFRESH-INTERVAL", "SOURCE", "COLOR", "IMAGE"}
}

// ofEvent lists the properties of an event that have nothing to do with its time.
func ofEvent() []string {
	return []string{"UID", "DTSTAMP", "SUMMARY", "DESCRIPTION", "LOCATION", "CLASS", "CREATED", "LAST-MODIFIED", "SEQUENCE", "STATUS",
		"TRANSP", "PRIORITY", "URL", "ORGANIZER", "ATTENDEE", "CATEGORIES", "COMMENT", "CONTACT", "GEO", "RESOURCES", "ATTACH",
		"RELATED-TO", "REQUEST-STATUS", "COLOR", "IMAGE", "CONFERENCE"}
}

// componentsOf reads the calendar of a text.
func componentsOf(text string) (component, error) {
	stream := ical.NewCalendarStream(strings.NewReader(text))
	open := []component{{}}
	for {
		raw, err := stream.ReadLine()
		if err != nil && !errors.Is(err, io.EOF) {
			return component{}, err
		}
		if raw != nil && strings.TrimSpace(string(*raw)) != "" {
			p, problem := ical.ParseProperty(*raw)
			if problem != nil || p == nil {
				return component{}, fmt.Errorf("%.80q is not a property", string(*raw))
			}
			l := line{name: strings.ToUpper(p.IANAToken), value: strings.TrimSpace(p.Value), params: map[string]string{}}
			for name, values := range p.ICalParameters {
				if len(values) > 0 {
					l.params[strings.ToUpper(name)] = values[0]
				}
			}
			top := &open[len(open)-1]
			switch kind := strings.ToUpper(l.value); {
			case l.name == "BEGIN":
				open = append(open, component{name: kind})
			case l.name == "END" && (len(open) < 2 || top.name != kind):
				return component{}, fmt.Errorf("END:%s ends nothing", l.value)
			case l.name == "END":
				above := &open[len(open)-2]
				above.parts = append(above.parts, *top)
				open = open[:len(open)-1]
			default:
				top.lines = append(top.lines, l)
			}
		}
		if errors.Is(err, io.EOF) {
			break
		}
	}
	if len(open) != 1 || len(open[0].parts) != 1 || open[0].parts[0].name != "VCALENDAR" || len(open[0].lines) > 0 {
		return component{}, errors.New("it must be one VCALENDAR, from BEGIN to END")
	}
	return open[0].parts[0], nil
}

// moment is a time or, for days, the start of one.
type moment struct {
	wall time.Time // as a time of UTC
	zone *time.Location
	day  bool
}

// in returns the wall clock of a zone at the moment.
func (m moment) in(zone *time.Location) time.Time {
	if m.day || m.zone.String() == zone.String() {
		return m.wall
	}
	return wallOf(fromWall(m.wall, m.zone), zone)
}

// moment reads a text of a property: a day, a time of UTC, of a zone, or of the calendar's zone.
func (l line) moment(text string, zone *time.Location) (moment, error) {
	if name := l.params["TZID"]; name != "" {
		var err error
		if zone, err = time.LoadLocation(strings.TrimPrefix(name, "/")); err != nil || name == "Local" {
			return moment{}, fmt.Errorf("%s: %q is not a time zone of the IANA database", l.name, name)
		}
	}
	if at, err := time.Parse("20060102", text); err == nil {
		return moment{at, zone, true}, nil
	}
	clock, utc := strings.CutSuffix(text, "Z")
	if utc {
		zone = time.UTC
	}
	at, err := time.Parse("20060102T150405", clock)
	if err != nil {
		return moment{}, fmt.Errorf("%s: %q is not a time", l.name, text)
	}
	return moment{at, zone, false}, nil
}

// vevent is an event of a text.
type vevent struct {
	name, uid string
	off       bool // cancelled, or it takes no time
	first     moment
	span      span
	rules     []*rrule.ROption
	dates     []moment
	periods   []event
	except    []moment
	instead   *moment // the occurrence of another event that it replaces
}

func eventOf(c component, zone *time.Location) (*vevent, error) {
	e := &vevent{name: "an event without a name"}
	by := map[string][]line{}
	for _, l := range c.lines {
		by[l.name] = append(by[l.name], l)
	}
	if s := by["SUMMARY"]; len(s) > 0 && s[0].value != "" {
		e.name = ical.FromText(s[0].value)
	}
	if u := by["UID"]; len(u) > 0 {
		e.uid = u[0].value
	}
	for _, p := range c.parts {
		if p.name != "VALARM" {
			return e, fmt.Errorf("%s is not supported", p.name)
		}
	}
	starts := by["DTSTART"]
	if len(starts) != 1 {
		return e, errors.New("DTSTART is missing, or there are several")
	}
	var err error
	if e.first, err = starts[0].moment(starts[0].value, zone); err != nil {
		return e, err
	}
	for _, l := range c.lines {
		switch l.name {
		case "DTSTART", "DTEND", "DURATION":
		case "RRULE":
			err = e.rule(l)
		case "RDATE":
			err = e.more(l, zone)
		case "EXDATE":
			err = e.exceptions(l, zone)
		case "RECURRENCE-ID":
			var at moment
			if at, err = l.moment(l.value, zone); err == nil && l.params["RANGE"] != "" {
				err = errors.New("RECURRENCE-ID with RANGE is not supported")
			}
			e.instead = &at
		case "STATUS":
			e.off = e.off || strings.EqualFold(l.value, "CANCELLED")
		case "TRANSP":
			e.off = e.off || strings.EqualFold(l.value, "TRANSPARENT")
		default:
			if !slices.Contains(ofEvent(), l.name) && !strings.HasPrefix(l.name, "X-") {
				err = fmt.Errorf("the property %s is not known", l.name)
			}
		}
		if err != nil {
			return e, err
		}
	}
	e.span, err = length(by["DTEND"], by["DURATION"], e.first, zone)
	return e, err
}

// length returns how long an event is.
func length(ends, durations []line, first moment, zone *time.Location) (span, error) {
	switch {
	case len(ends)+len(durations) > 1:
		return span{}, errors.New("an event has one of DTEND and DURATION")
	case len(durations) == 1:
		return rfcDuration(durations[0].value)
	case len(ends) == 0 && first.day:
		return span{days: 1}, nil
	case len(ends) == 0:
		return span{}, errors.New("DTEND and DURATION are missing")
	}
	end, err := ends[0].moment(ends[0].value, zone)
	if err != nil {
		return span{}, err
	}
	return between(first, end)
}

// between returns the span from a start to an end.
func between(first, end moment) (span, error) {
	from, to := fromWall(first.wall, first.zone), fromWall(end.wall, end.zone)
	switch {
	case first.day != end.day:
		return span{}, errors.New("one of start and end is a day, the other one a time")
	case !to.After(from):
		return span{}, errors.New("the end is before the start")
	case first.day:
		return bounded(span{days: int(end.wall.Sub(first.wall) / (24 * time.Hour))})
	}
	return bounded(span{time: to.Sub(from)})
}

func bounded(s span) (span, error) {
	if s.days > longestDays || s.time > longestDays*24*time.Hour {
		return span{}, fmt.Errorf("the event is longer than %d days", longestDays)
	}
	return s, nil
}

func (e *vevent) rule(l line) error {
	upper := strings.ToUpper(l.value)
	until := ""
	var parts []string
	for _, part := range strings.Split(upper, ";") {
		if value, ok := strings.CutPrefix(part, "UNTIL="); ok {
			until = value
			continue
		}
		parts = append(parts, part)
	}
	option, err := rrule.StrToROptionInLocation(strings.Join(parts, ";"), time.UTC)
	if err != nil {
		return fmt.Errorf("RRULE: %w", err)
	}
	if option.Freq > rrule.DAILY { // hourly or more often: not a freeze
		return errors.New("RRULE repeats more often than daily")
	}
	if until != "" {
		last, err := line{name: "UNTIL"}.moment(until, e.first.zone)
		if err != nil {
			return err
		}
		option.Until = last.in(e.first.zone)
		if last.day && !e.first.day {
			option.Until = option.Until.Add(24*time.Hour - time.Second) // the whole day
		}
	}
	option.Dtstart = e.first.wall
	if _, err := rrule.NewRRule(*option); err != nil {
		return fmt.Errorf("RRULE: %w", err)
	}
	e.rules = append(e.rules, option)
	return nil
}

// more reads the dates, or the periods, of an RDATE.
func (e *vevent) more(l line, zone *time.Location) error {
	for _, text := range strings.Split(l.value, ",") {
		from, to, isPeriod := strings.Cut(strings.TrimSpace(text), "/")
		at, err := l.moment(from, zone)
		if err != nil {
			return err
		}
		if !isPeriod {
			if at.day != e.first.day {
				return errors.New("RDATE and DTSTART must both be days, or times")
			}
			e.dates = append(e.dates, at)
			continue
		}
		long, err := rfcDuration(to)
		if err != nil {
			end, problem := l.moment(to, zone)
			if problem != nil {
				return problem
			}
			if long, err = between(at, end); err != nil {
				return fmt.Errorf("RDATE: %w", err)
			}
		}
		e.periods = append(e.periods, event{name: e.name, zone: at.zone, start: at.wall, span: long})
	}
	return nil
}

func (e *vevent) exceptions(l line, zone *time.Location) error {
	for _, text := range strings.Split(l.value, ",") {
		at, err := l.moment(strings.TrimSpace(text), zone)
		if err != nil {
			return err
		}
		if at.day != e.first.day {
			return errors.New("EXDATE and DTSTART must both be days, or times")
		}
		e.except = append(e.except, at)
	}
	return nil
}

// events returns an event for its dates, and one for each rule.
func (e *vevent) events() []event {
	zone := e.first.zone
	except := make([]time.Time, len(e.except))
	for i, at := range e.except {
		except[i] = at.in(zone)
	}
	add := func(list []event, set *rrule.Set) []event {
		set.SetExDates(except)
		return append(list, event{e.name, zone, e.first.wall, set, e.span})
	}
	var out []event
	for _, p := range e.periods {
		excluded := slices.ContainsFunc(e.except, func(at moment) bool {
			return fromWall(at.wall, at.zone).Equal(fromWall(p.start, p.zone))
		})
		if !excluded {
			out = append(out, p)
		}
	}
	if len(e.rules) == 0 && len(e.dates) == 0 && len(except) == 0 {
		return append(out, event{e.name, zone, e.first.wall, nil, e.span})
	}
	dates := &rrule.Set{}
	dates.RDate(e.first.wall) // the first occurrence, by any rule
	for _, at := range e.dates {
		dates.RDate(at.in(zone))
	}
	out = add(out, dates)
	for _, option := range e.rules {
		r, err := rrule.NewRRule(*option)
		if err != nil {
			continue // its options were read
		}
		set := &rrule.Set{}
		set.RRule(r)
		out = add(out, set)
	}
	return out
}

// rfcDuration reads a duration of RFC 5545 (3.3.6), such as P1W, P3D or PT8H30M.
func rfcDuration(text string) (span, error) {
	rest, ok := strings.CutPrefix(strings.TrimPrefix(strings.ToUpper(text), "+"), "P")
	units := map[rune]time.Duration{'H': time.Hour, 'M': time.Minute, 'S': time.Second}
	days := map[rune]int{'W': 7, 'D': 1}
	var out span
	n, digits, clock := 0, 0, false
	for _, r := range rest {
		switch {
		case r == 'T' && !clock:
			clock = true
		case r >= '0' && r <= '9' && digits < 6:
			n, digits = n*10+int(r-'0'), digits+1
		case !clock && days[r] > 0 && digits > 0:
			out.days, n, digits = out.days+n*days[r], 0, 0
		case clock && units[r] > 0 && digits > 0:
			out.time, n, digits = out.time+time.Duration(n)*units[r], 0, 0
		default:
			ok = false
		}
		if out.days > longestDays || out.time > longestDays*24*time.Hour {
			return span{}, fmt.Errorf("DURATION: %.40q is longer than %d days", text, longestDays)
		}
	}
	if !ok || digits > 0 || out.days+int(out.time) <= 0 {
		return span{}, fmt.Errorf("%q is not a DURATION", text)
	}
	return out, nil
}
