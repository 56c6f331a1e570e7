// Package measure computes the delivery metrics of a service: lead time, deployment frequency,
// change failure rate and recovery time.
//
// All its functions can be called concurrently.
package measure

import (
	"slices"
	"time"

	"rudmar/core/delivery"
)

// Passage is a version's arrival at a state in a stage.
type Passage struct {
	Stage   string
	Version int
	State   delivery.State // Settled, RolledBack or Stopped; others are not counted
	At      time.Time
	Pushed  time.Time // when the version was pushed
}

// Delivered is a version that settled for the first time in a stage.
type Delivered struct {
	Version int
	At      time.Time
	Lead    time.Duration // since its push
}

// Failed is a version that rolled back or stopped in a stage.
type Failed struct {
	Version int
	At      time.Time
	State   delivery.State
	Until   time.Time // when a version settled there again; zero if none has yet
}

// Week has the figures of a stage in one week, which starts on a Monday in UTC.
type Week struct {
	Begin     time.Time
	Delivered []Delivered
	Failed    []Failed
	Lead      time.Duration // the median of the delivered versions; zero if there is none
}

// Stage is how a stage was delivered to over the weeks.
type Stage struct {
	Stage string
	Weeks []Week // oldest first, without gaps
	// Over all weeks: the median time from push to the stage, the versions delivered per week, the share that
	// rolled back or failed, and the median time to recovery. Zero without data.
	Lead              time.Duration
	PerWeek           float64
	ChangeFailureRate float64
	Restore           time.Duration
}

const week = 7 * 24 * time.Hour

// Monday returns the beginning of a time's week.
func Monday(at time.Time) time.Time {
	at = at.UTC()
	day := time.Date(at.Year(), at.Month(), at.Day(), 0, 0, 0, 0, time.UTC)
	return day.AddDate(0, 0, -(int(day.Weekday())+6)%7)
}

// Of measures a stage over a number of weeks until now, from all passages of a service, in order of time. Passages
// after now do not count; without weeks, all figures are zero.
func Of(stage string, passages []Passage, now time.Time, weeks int) Stage {
	weeks = max(0, weeks)
	first := Monday(now).Add(-time.Duration(weeks-1) * week)
	out := Stage{Stage: stage}
	for i := range weeks {
		out.Weeks = append(out.Weeks, Week{Begin: first.Add(time.Duration(i) * week)})
	}
	var restores []time.Duration
	settled := map[int]bool{}
	delivered, failed := 0, 0
	for i, p := range passages {
		if p.Stage != stage || p.At.After(now) {
			continue
		}
		again := settled[p.Version]
		settled[p.Version] = settled[p.Version] || p.State == delivery.Settled
		at := int(p.At.Sub(first) / week)
		if p.At.Before(first) || at >= weeks {
			continue
		}
		w := &out.Weeks[at]
		switch {
		case p.State == delivery.Settled && !again:
			d := Delivered{p.Version, p.At, max(0, p.At.Sub(p.Pushed))}
			w.Delivered = append(w.Delivered, d)
			delivered++
		case p.State == delivery.RolledBack || p.State == delivery.Failed:
			f := Failed{Version: p.Version, At: p.At, State: p.State, Until: restored(passages[i+1:], p, now)}
			if !f.Until.IsZero() {
				restores = append(restores, f.Until.Sub(f.At))
			}
			w.Failed = append(w.Failed, f)
			failed++
		}
	}
	var all []Delivered
	for i := range out.Weeks {
		w := &out.Weeks[i]
		w.Lead, all = medianLead(w.Delivered), append(all, w.Delivered...)
	}
	out.Lead, out.Restore = medianLead(all), median(restores)
	if weeks > 0 {
		out.PerWeek = float64(delivered) / float64(weeks)
	}
	if delivered+failed > 0 {
		out.ChangeFailureRate = float64(failed) / float64(delivered+failed)
	}
	return out
}

// restored returns when something settled in the stage, until now, after a version had failed there.
func restored(later []Passage, failed Passage, now time.Time) time.Time {
	for _, p := range later {
		if p.At.After(now) {
			break
		}
		if p.Stage == failed.Stage && p.State == delivery.Settled {
			return p.At
		}
	}
	return time.Time{}
}

func medianLead(delivered []Delivered) time.Duration {
	leads := make([]time.Duration, len(delivered))
	for i, d := range delivered {
		leads[i] = d.Lead
	}
	return median(leads)
}

func median(list []time.Duration) time.Duration {
	if len(list) == 0 {
		return 0
	}
	slices.Sort(list)
	if n := len(list); n%2 == 0 {
		return (list[n/2-1] + list[n/2]) / 2
	}
	return list[len(list)/2]
}
