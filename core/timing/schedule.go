package timing

import "time"

// Schedule defines due times: by a cron expression in a zone, or at a fixed interval.
type Schedule struct {
	Cron  *Cron
	Zone  *time.Location
	Every time.Duration
}

// Next returns the first time after t. Intervals are counted from the Unix epoch, so they do not move with a
// restart.
func (s Schedule) Next(t time.Time) (time.Time, bool) {
	if s.Cron != nil {
		zone := s.Zone
		if zone == nil {
			zone = time.UTC
		}
		return s.Cron.Next(t.In(zone))
	}
	if s.Every < time.Second {
		return time.Time{}, false
	}
	every := s.Every.Milliseconds()
	return time.UnixMilli((t.UnixMilli()/every + 1) * every).In(t.Location()), true
}

// Times returns the next n times after t.
func (s Schedule) Times(t time.Time, n int) []time.Time {
	var out []time.Time
	for len(out) < n {
		next, ok := s.Next(t)
		if !ok {
			break
		}
		out = append(out, next)
		t = next
	}
	return out
}

// PerDay counts the fires in the 24 hours after t.
func (s Schedule) PerDay(t time.Time) int { return s.Count(t, t.Add(24*time.Hour)) }

// Count counts the due times after one time and up to another.
func (s Schedule) Count(after, until time.Time) int {
	n := 0
	for {
		next, ok := s.Next(after)
		if !ok || next.After(until) {
			return n
		}
		n, after = n+1, next
	}
}

// Read returns the schedule of a cron expression in a named zone or, if the expression is empty, of an
// interval.
func Read(cron, zone string, every time.Duration) (Schedule, error) {
	if cron == "" {
		return Schedule{Every: every}, nil
	}
	parsed, err := ParseCron(cron)
	if err != nil {
		return Schedule{}, err
	}
	location, err := time.LoadLocation(zone)
	if err != nil {
		return Schedule{}, err
	}
	return Schedule{Cron: &parsed, Zone: location}, nil
}
