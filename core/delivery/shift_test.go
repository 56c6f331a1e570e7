package delivery_test

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/judge"
	"rudmar/core/manifest"
)

func TestShiftNext(t *testing.T) {
	begun := time.Date(2026, 11, 3, 6, 30, 0, 0, time.UTC)
	at := func(step int, of func(*delivery.Shift)) delivery.Shift {
		s := delivery.Shift{Steps: []float64{10, 50}, Every: 5 * time.Minute, Step: step, Since: begun, MinInvocations: 30, AtMost: time.Hour,
			From: map[string]delivery.Counted{"warn": {New: 100, Old: 900}}}
		of(&s)
		return s
	}
	plain := func(*delivery.Shift) {}
	held := func(s *delivery.Shift) { s.Held = "wren" }
	said := func(o judge.Outcome, more ...judge.Finding) judge.Verdict {
		findings := append([]judge.Finding{{Function: "warn", New: judge.Counts{Invocations: 130}, Old: judge.Counts{Invocations: 950}}}, more...)
		return judge.Verdict{Outcome: o, Reason: "so it is", Findings: findings}
	}
	early := said(judge.On)
	early.Early = true
	fewOf := func(new, old int) judge.Finding {
		return judge.Finding{Function: "sweep", New: judge.Counts{Invocations: new}, Old: judge.Counts{Invocations: old}}
	}
	few, none := said(judge.On, fewOf(29, 40)), said(judge.On, fewOf(0, 0))
	earlyFew := few
	earlyFew.Early = true
	idle := judge.Verdict{Outcome: judge.On, Findings: []judge.Finding{fewOf(0, 0)}}
	for _, tt := range []struct {
		name  string
		s     delivery.Shift
		v     judge.Verdict
		after time.Duration
		share float64
		says  string
		next  time.Duration // when it continues by time, after it began; 0 if it does not
	}{
		{"it lasts", at(0, plain), said(judge.On), 4 * time.Minute, 10, "so it is", 5 * time.Minute},
		{"it has lasted", at(0, plain), said(judge.On), 5 * time.Minute, 50, "so it is", 0},
		{"the last step", at(1, plain), said(judge.On), 5 * time.Minute, 100, "so it is", 0},
		{"enough is known", at(0, plain), early, time.Minute, 50, "advances early", 0},
		{"enough is known of too few calls", at(0, plain), earlyFew, time.Minute, 10, "so it is", 5 * time.Minute},
		{"few calls", at(0, plain), few, 6 * time.Minute, 10, "sweep: 29 of 30 invocations of the new version in this step", time.Hour},
		{"calls of the step before", at(0, func(s *delivery.Shift) { s.From["sweep"] = delivery.Counted{New: 28, Old: 40} }), said(judge.On, fewOf(57, 50)),
			6 * time.Minute, 10, "sweep: 29 of 30", time.Hour},
		{"few calls for long", at(0, plain), few, time.Hour, 50, "time limit of 1h (sweep: 29 of 30", 0},
		{"in doubt", at(0, plain), said(judge.On, judge.Finding{Function: "sweep", Words: "perhaps", Doubtful: true}), 5 * time.Minute, 10, "sweep: perhaps", time.Hour},
		{"a function without calls", at(0, plain), none, 5 * time.Minute, 50, "so it is", 0},
		{"no calls", at(0, plain), idle, 5 * time.Minute, 10, "no changed function was invoked", time.Hour},
		{"no calls for long", at(0, plain), idle, time.Hour, 50, "the cases decide", 0},
		{"a limit shorter than the time", at(0, func(s *delivery.Shift) { s.AtMost = time.Minute }), idle, 4 * time.Minute, 10, "", 5 * time.Minute},
		{"the defaults", at(0, func(s *delivery.Shift) { s.MinInvocations, s.AtMost = 0, 0 }), few, time.Hour, 10, "warn: 30 of 50", 2 * time.Hour},
		{"worse", at(1, plain), said(judge.Back), time.Minute, 0, "so it is", 0},
		{"held", at(0, held), said(judge.On), time.Hour, 10, "paused by wren", 0},
		{"held, and enough is known", at(0, held), early, time.Hour, 10, "paused by wren", 0},
		{"held, and worse", at(0, held), said(judge.Back), time.Minute, 0, "so it is", 0},
		{"its share does not exist yet", at(0, func(s *delivery.Shift) { s.Since = time.Time{} }), said(judge.Back), time.Hour, 10, "", 0},
		{"it goes back already", at(0, func(s *delivery.Shift) { s.Back = "cold feet" }), said(judge.On), time.Hour, 0, "", 0},
		{"it has all", at(2, plain), said(judge.Back), time.Hour, 100, "", 0},
	} {
		next, p := tt.s.Next(tt.v, begun.Add(tt.after))
		if next.Share() != tt.share || !strings.Contains(p.Reason, tt.says) {
			t.Errorf("%s: %v %%, %q", tt.name, next.Share(), p.Reason)
		}
		if want := begun.Add(tt.next); tt.next > 0 && !p.At.Equal(want) || tt.next == 0 && !p.At.IsZero() {
			t.Errorf("%s: it goes on at %v, want %v", tt.name, p.At, want)
		}
		if next.Step != tt.s.Step && (!next.Since.IsZero() || next.From != nil) {
			t.Errorf("%s: the step has begun before its share is there", tt.name)
		}
	}
}

// With any judgments at any times: shares rise, or drop to zero for good, and a shift that is not paused ends.
func TestShiftsEnd(t *testing.T) {
	for seed := range uint64(300) {
		rng := rand.New(rand.NewPCG(seed, 1))
		s := delivery.Shift{Steps: []float64{5, 20, 60}, Every: time.Minute, Since: time.Unix(0, 0)}
		now, last := s.Since, s.Share()
		for looks := 0; s.Share() > 0 && s.Share() < 100; looks++ {
			if looks > 10_000 {
				t.Fatalf("seed %d: it does not end: %+v", seed, s)
			}
			now = now.Add(time.Duration(rng.IntN(40)) * time.Second)
			v := judge.Verdict{Outcome: []judge.Outcome{judge.On, judge.Wait, judge.On, judge.Wait, judge.Back}[rng.IntN(4+int(seed%2))]}
			v.Early = v.Outcome == judge.On && rng.IntN(10) == 0
			s, _ = s.Next(v, now)
			if share := s.Share(); share != 0 && share < last {
				t.Fatalf("seed %d: the share falls from %v to %v", seed, last, share)
			}
			if last = s.Share(); s.Since.IsZero() {
				s.Since = now // it is there
			}
		}
	}
}

func TestShiftUsesStandingRules(t *testing.T) {
	slow, quick := &manifest.Shift{Steps: []float64{0.1}}, &manifest.Shift{Steps: []float64{0.9}}
	for _, tt := range []struct {
		standing, own *manifest.Stage
		want          *manifest.Shift
	}{
		{nil, &manifest.Stage{Shift: quick}, quick},
		{&manifest.Stage{Shift: slow}, &manifest.Stage{Shift: quick}, slow},
		{&manifest.Stage{Shift: slow}, &manifest.Stage{}, slow},
		{&manifest.Stage{}, &manifest.Stage{Shift: quick}, quick},
		{&manifest.Stage{Shift: slow}, nil, slow},
		{nil, nil, nil},
	} {
		if got := (delivery.Entry{Standing: tt.standing, Own: tt.own}).Shift(); got != tt.want {
			t.Errorf("%+v over %+v: %+v", tt.own, tt.standing, got)
		}
	}
}
