package store_test

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/metrics"
	"rudmar/engine/store"
)

// The old revision's invocations in the minute before its shift do not count.
func TestEarlierApprovalIsWithdrawn(t *testing.T) {
	e := store.Earlier{Minute: 60_000, Invocations: 10, Errors: 2, Durations: map[int]int{3: 8, 9: 2}}
	sum := metrics.Sum{Invocations: 15, Errors: 2, Durations: metrics.Histogram{3: 12, 9: 2, 11: 1}}
	before, got := e.Split(sum, 60_000)
	if got.Invocations != 5 || got.Errors != 0 || !maps.Equal(got.Durations, metrics.Histogram{3: 4, 11: 1}) {
		t.Errorf("%+v", got)
	}
	if before.Invocations != 10 || before.Errors != 2 || !maps.Equal(before.Durations, metrics.Histogram{3: 8, 9: 2}) {
		t.Errorf("before: %+v", before)
	}
	if before, got := e.Split(sum, 120_000); got.Invocations != 15 || got.Errors != 2 || before.Invocations != 0 {
		t.Errorf("another minute: %+v, %+v", before, got)
	}
	e.Durations, e.Coarse = nil, map[int]int{1: 8} // buckets  of a tenth, up to 1.1 ms
	if _, got := e.Split(sum, 60_000); got.Durations.Count() >= 15 || got.Durations[9] != 2 {
		t.Errorf("in coarse buckets: %+v", got)
	}
	if sum.Durations[3] != 12 {
		t.Error("the sum itself was changed")
	}
}

// A shift can be changed only in its present state: a person's command in between is not lost.
func TestShiftsAreNotOverwritten(t *testing.T) {
	s, _, _ := open(t)
	withVersion(t, s, "a")
	ctx := t.Context()
	if err := s.StartDelivery(ctx, "frostline", 1, []string{"live"}, nil); err != nil {
		t.Fatal(err)
	}
	d, err := s.Delivery(ctx, "frostline", 1, "live")
	if err != nil {
		t.Fatal(err)
	}
	v := store.Shift{Service: "frostline", Version: 1, Stage: "live", Active: true, Before: 1,
		Shift: delivery.Shift{Steps: []float64{10}, Every: time.Minute}}
	if err := s.PutShift(ctx, v); err != nil {
		t.Fatal(err)
	}
	hold := func(v *store.Shift) error { v.Held = "wren"; return nil }
	if err := s.ChangeShift(ctx, d, "wren", "shift: hold", hold); !errors.Is(err, store.ErrMoved) {
		t.Errorf("a version that does not shift is held: %v", err)
	}
	for _, state := range []delivery.State{delivery.Planning, delivery.Shifting} {
		m := store.Move{From: d.State, To: d}
		m.To.State = state
		if err := s.MoveDeliveries(ctx, m); err != nil {
			t.Fatal(err)
		}
		d.State = state
	}
	read, err := s.Shift(ctx, "frostline", 1, "live")
	if err != nil || read.Share() != 10 || read.Every != time.Minute {
		t.Fatalf("%v: %+v", err, read)
	}
	if err := s.ChangeShift(ctx, d, "wren", "shift: hold", hold); err != nil {
		t.Fatal(err)
	}
	read.Reason = "judged by what was there before"
	if err := s.JudgeShift(ctx, read); !errors.Is(err, store.ErrMoved) {
		t.Errorf("somebody's word is overwritten: %v", err)
	}
	now, err := s.Shift(ctx, "frostline", 1, "live")
	if err != nil || now.Held != "wren" || now.Reason != "" {
		t.Errorf("%v: %+v", err, now)
	}
	if err := s.JudgeShift(ctx, now); err != nil {
		t.Errorf("what is judged as it is: %v", err)
	}
	m := store.Move{From: d.State, To: d}
	m.To.State = delivery.RolledBack
	if err := s.MoveDeliveries(ctx, m); err != nil {
		t.Fatal(err)
	}
	if active, err := s.ActiveShifts(ctx, "frostline"); err != nil || len(active) != 0 {
		t.Errorf("what was rolled back still shifts: %v %+v", err, active)
	}
	if err := s.JudgeShift(ctx, now); !errors.Is(err, store.ErrMoved) {
		t.Errorf("what is over is judged: %v", err)
	}
}

// The archives of the newest twenty versions stay, however old they are.
func TestNewestArchivesAreKept(t *testing.T) {
	s, c, _ := open(t)
	for i := range 22 {
		withVersion(t, s, fmt.Sprintf("content%02d", i+1))
	}
	c.add(365 * 24 * time.Hour)
	old, err := s.OldArchives(t.Context(), c.Now())
	var got []string
	for _, a := range old {
		got = append(got, a.Digest)
	}
	if slices.Sort(got); err != nil || !slices.Equal(got, []string{"sha256:content01", "sha256:content02"}) {
		t.Errorf("%v %v", got, err)
	}
	if old, err := s.OldArchives(t.Context(), c.Now().Add(-2*365*24*time.Hour)); err != nil || len(old) != 0 {
		t.Errorf("what is not old: %v %v", old, err)
	}
}

// All functions of a version enter, or those that were chosen, until the rest follows.
func TestSelectedFunctions(t *testing.T) {
	chosen := &delivery.Choice{Functions: []string{"warn"}}
	for _, tt := range []struct {
		d           store.Delivery
		warn, watch bool
	}{{store.Delivery{}, true, true}, {store.Delivery{Choice: chosen}, true, false}, {store.Delivery{Choice: chosen, Rest: true}, true, true}} {
		if tt.d.Enters("warn") != tt.warn || tt.d.Enters("watch") != tt.watch {
			t.Errorf("%+v: %v %v", tt.d, tt.d.Enters("warn"), tt.d.Enters("watch"))
		}
	}
}
