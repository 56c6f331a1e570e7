package delivery

import (
	"fmt"
	"time"

	"rudmar/core/judge"
	"rudmar/core/language"
	"rudmar/core/manifest"
)

// Shift is the progress of a traffic shift in a stage. All shares are percent.
type Shift struct {
	Steps []float64     `json:"steps"`          // ascending, less than 100; none to move all traffic at once
	Every time.Duration `json:"every"`          // duration of a step
	Step  int           `json:"step"`           // index into Steps; len(Steps) for all invocations
	Since time.Time     `json:"since"`          // start of the step; zero until its share is deployed
	Held  string        `json:"pausedBy"`       // who paused it; "" for nobody
	Back  string        `json:"rollbackReason"` // why it rolls back; "" if it does not
}

// Share is the version's present share.
func (s Shift) Share() float64 {
	switch {
	case s.Back != "":
		return 0
	case s.Step >= len(s.Steps):
		return 100
	}
	return s.Steps[s.Step]
}

// patience is the maximum duration of a step without enough invocations, as a multiple of its time.
const patience = 3

// Next decides by the judge's outcome whether the shift stays, advances, or rolls back. It returns the reason,
// and when the shift would advance by time, if it stays and is not paused.
func (s Shift) Next(v judge.Verdict, now time.Time) (next Shift, why string, at time.Time) {
	if s.Back != "" || s.Step >= len(s.Steps) || s.Since.IsZero() {
		return s, "", time.Time{}
	}
	end, last := s.Since.Add(s.Every), s.Since.Add(patience*s.Every)
	switch {
	case v.Outcome == judge.Back:
		s.Back = v.Reason
		return s, v.Reason, time.Time{}
	case s.Held != "":
		return s, "paused by " + s.Held, time.Time{}
	case v.Outcome == judge.Wait && now.Before(last):
		return s, v.Reason, last
	case v.Outcome == judge.Wait:
		return s.on(), fmt.Sprintf("advances after the time limit, because %s had too few invocations: %s",
				language.FormatTime(patience*s.Every), v.Reason),
			time.Time{}
	case v.Early:
		return s.on(), "advances early: " + v.Reason, time.Time{}
	case now.Before(end):
		return s, v.Reason, end
	}
	return s.on(), v.Reason, time.Time{}
}

func (s Shift) on() Shift {
	s.Step++
	s.Since = time.Time{}
	return s
}

// On advances to the next step now, on a person's request.
func (s Shift) On() Shift {
	s.Held = ""
	return s.on()
}

// Shift returns the shares of a version's traffic shift: those of the standing rules, else its own; nil to move
// all traffic at once.
func (e Entry) Shift() *manifest.Shift {
	if e.Standing != nil && e.Standing.Shift != nil {
		return e.Standing.Shift
	}
	if e.Own != nil {
		return e.Own.Shift
	}
	return nil
}
