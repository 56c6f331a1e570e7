package delivery

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"rudmar/core/judge"
	"rudmar/core/language"
	"rudmar/core/manifest"
)

// Shift is the progress of a traffic shift in a stage. All shares are percent.
type Shift struct {
	Steps []float64     `json:"steps"` // ascending, less than 100; none to move all traffic at once
	Every time.Duration `json:"every"` // duration of a step
	// MinInvocations is how many invocations of each invoked function a step needs, and AtMost how long it lasts without
	// them; 0 for the default.
	MinInvocations int           `json:"minInvocations"`
	AtMost         time.Duration `json:"atMost"`
	// From has the invocations by function when the step started.
	From  map[string]Counted `json:"from,omitempty"`
	Step  int                `json:"step"`           // index into Steps; len(Steps) for all invocations
	Since time.Time          `json:"since"`          // start of the step; zero until its share is deployed
	Held  string             `json:"pausedBy"`       // who paused it; "" for nobody
	Back  string             `json:"rollbackReason"` // why it rolls back; "" if it does not
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

// Least is how many invocations of each invoked function a step needs.
func (s Shift) Least() int { return cmp.Or(s.MinInvocations, manifest.ShiftMinInvocations) }

// Longest is how long a step lasts without so many invocations.
func (s Shift) Longest() time.Duration { return max(s.Every, cmp.Or(s.AtMost, manifest.ShiftAtMost)) }

// Counted are the invocations of both revisions of a function since the start of a shift.
type Counted struct {
	New int `json:"new"`
	Old int `json:"old"`
}

// CountsOf returns the invocations of each function.
func CountsOf(functions []judge.Function) map[string]Counted {
	out := map[string]Counted{}
	for _, f := range functions {
		out[f.Name] = Counted{f.New.Invocations, f.Old.Invocations}
	}
	return out
}

// Progress is the result of a look at a shift.
type Progress struct {
	Verdict judge.Verdict
	Reason  string
	// At is when the shift advances by time, if it stays and is not paused; otherwise zero.
	At time.Time
}

// Look judges a shift, and decides whether it stays, advances, or rolls back. Looked has, by function, the invocations
// of the new revision at the last look, and is changed. Every function is judged before a step ends.
func (s Shift) Look(functions []judge.Function, looked map[string]int, now time.Time) (Shift, Progress) {
	v := judge.Judge(functions, looked)
	next, p := s.Next(v, now)
	if next.Step > s.Step && slices.ContainsFunc(v.Findings, func(f judge.Finding) bool { return !f.Looked }) {
		v = judge.Judge(functions, nil)
		next, p = s.Next(v, now)
	}
	for _, f := range v.Findings {
		if f.Looked {
			looked[f.Function] = f.New.Invocations
		}
	}
	return next, p
}

// Next decides by the judge's verdict whether the shift stays, advances, or rolls back.
func (s Shift) Next(v judge.Verdict, now time.Time) (Shift, Progress) {
	p := Progress{Verdict: v, Reason: v.Reason}
	if s.Back != "" || s.Step >= len(s.Steps) || s.Since.IsZero() {
		p.Reason = ""
		return s, p
	}
	end, last := s.Since.Add(s.Every), s.Since.Add(s.Longest())
	missing := s.missing(v)
	switch {
	case v.Outcome == judge.Back:
		s.Back = v.Reason
		return s, p
	case s.Held != "":
		p.Reason = "paused by " + s.Held
		return s, p
	case missing == "" && v.Early:
		p.Reason = "advances early: " + v.Reason
		return s.on(), p
	case missing == "" && !now.Before(end):
		return s.on(), p
	case now.Before(end):
		p.At = end
	case now.Before(last):
		p.At, p.Reason, p.Verdict.Outcome = last, missing, judge.Wait
	default:
		p.Reason = fmt.Sprintf("advances after the time limit of %s (%s); the cases decide, if there are any",
			language.FormatTime(s.Longest()), missing)
		return s.on(), p
	}
	return s, p
}

// missing returns which function needs more invocations in this step, and why; "" if none does. A function that neither
// revision was invoked of does not count, unless none was invoked.
func (s Shift) missing(v judge.Verdict) string {
	least, invoked := s.Least(), false
	for _, f := range v.Findings {
		before := s.From[f.Function]
		new, old := f.New.Invocations-before.New, f.Old.Invocations-before.Old
		if new+old > 0 {
			invoked = true
		}
		if new+old > 0 && new < least {
			return fmt.Sprintf("%s: %d of %s of the new version in this step", f.Function, new,
				language.FormatCount(least, "invocation"))
		}
	}
	for _, f := range v.Findings {
		if f.Doubtful {
			return f.Function + ": " + f.Words
		}
	}
	if !invoked && len(v.Findings) > 0 {
		return "no changed function was invoked in this step"
	}
	return ""
}

func (s Shift) on() Shift {
	s.Step++
	s.Since, s.From = time.Time{}, nil
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
