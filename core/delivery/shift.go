package delivery

import (
	"fmt"
	"time"

	"rudmar/core/judge"
	"rudmar/core/language"
	"rudmar/core/manifest"
)

// Shift is how far a version's share of the calls has got in a stage. All shares are
// percent.
type Shift struct {
	Steps []float64     `json:"steps"` // rising, less than 100; none where it gets all at once
	Every time.Duration `json:"every"` // how long a step lasts
	Step  int           `json:"step"`  // of Steps; len(Steps) for all of the calls
	Since time.Time     `json:"since"` // of the step; zero until its share is there
	Held  string        `json:"held"`  // who holds it; "" for nobody
	Back  string        `json:"back"`  // why it goes back; "" where it does not
}

// Share is what the version is to get now.
func (s Shift) Share() float64 {
	switch {
	case s.Back != "":
		return 0
	case s.Step >= len(s.Steps):
		return 100
	}
	return s.Steps[s.Step]
}

// patience is how many times as long a step lasts at most, where there are not calls
// enough to say.
const patience = 3

// Next decides what becomes of the shift by what the judge says: it stays, goes on to
// the next step, or goes back. It gives why, and when it would go on, by time, where it
// stays and nobody holds it.
func (s Shift) Next(v judge.Verdict, now time.Time) (next Shift, why string, at time.Time) {
	if s.Back != "" || s.Step >= len(s.Steps) || s.Since.IsZero() {
		return s, "", time.Time{}
	}
	end, last := s.Since.Add(s.Every), s.Since.Add(patience*s.Every)
	switch {
	case v.Outcome == judge.Back:
		s.Back = v.Why
		return s, v.Why, time.Time{}
	case s.Held != "":
		return s, "held by " + s.Held, time.Time{}
	case v.Outcome == judge.Wait && now.Before(last):
		return s, v.Why, last
	case v.Outcome == judge.Wait:
		return s.on(), fmt.Sprintf("it goes on by time, for there were not enough calls in %s: %s",
				language.FormatTime(patience*s.Every), v.Why),
			time.Time{}
	case v.Early:
		return s.on(), "it goes on before its time: " + v.Why, time.Time{}
	case now.Before(end):
		return s, v.Why, end
	}
	return s.on(), v.Why, time.Time{}
}

func (s Shift) on() Shift {
	s.Step++
	s.Since = time.Time{}
	return s
}

// On goes on to the next step now, for somebody's word.
func (s Shift) On() Shift {
	s.Held = ""
	return s.on()
}

// Shift gives by which shares a version gets the calls: those of the rules that stand
// in the stage, else its own; nil where it gets all at once.
func (e Entry) Shift() *manifest.Shift {
	if e.Standing != nil && e.Standing.Shift != nil {
		return e.Standing.Shift
	}
	if e.Own != nil {
		return e.Own.Shift
	}
	return nil
}
