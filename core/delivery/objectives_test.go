package delivery_test

import (
	"strings"
	"testing"
	"time"

	"rudmar/core/delivery"
	"rudmar/core/manifest"
	"rudmar/core/metrics"
)

func TestMissedDeliveries(t *testing.T) {
	sum := metrics.Sum{Invocations: 200, Errors: 4, Durations: metrics.Histogram{metrics.Bucket(100): 90, metrics.Bucket(900): 10}}
	for _, tt := range []struct {
		o     manifest.Objectives
		sum   metrics.Sum
		words string // "" if nothing is missed
	}{
		{manifest.Objectives{}, sum, ""},
		{manifest.Objectives{ErrorsUnder: 0.03}, sum, ""},
		{manifest.Objectives{ErrorsUnder: 0.02}, sum, "2% of 200 invocations failed, objective under 2%"}, // under is under
		{manifest.Objectives{ErrorsUnder: 0.01}, sum, "2% of 200 invocations failed"},
		{manifest.Objectives{P95Under: time.Second}, sum, ""},
		{manifest.Objectives{P95Under: 800 * time.Millisecond}, sum, "p95 is"},
		{manifest.Objectives{ErrorsUnder: 0.01, P95Under: 800 * time.Millisecond}, sum, ", and "},
		{manifest.Objectives{ErrorsUnder: 0.01, P95Under: time.Millisecond}, metrics.Sum{}, ""}, // no invocations
	} {
		if got := delivery.Missed(tt.o, tt.sum); (got == "") != (tt.words == "") || !strings.Contains(got, tt.words) {
			t.Errorf("%+v: %q", tt.o, got)
		}
	}
}

// A soak gate without an error rate uses the functions' objectives.
func TestSoakByObjectives(t *testing.T) {
	for _, tt := range []struct {
		under  float64
		calls  int
		missed []string
		want   delivery.GateState
	}{
		{0, 500, nil, delivery.GatePassed},
		{0, 500, []string{"warn misses its objective"}, delivery.GateNotMet},
		{0, 0, []string{"warn misses its objective"}, delivery.GateWaiting}, // not enough calls yet
		{0, 99, []string{"warn misses its objective"}, delivery.GateWaiting},
		{0, 100, []string{"warn misses its objective"}, delivery.GateNotMet},
		{0.5, 500, []string{"warn misses its objective"}, delivery.GatePassed},
	} {
		own, f := stage(), fulfilled()
		own.Gates = manifest.Gates{Soak: &manifest.Soak{MinInvocations: 100, ErrorsUnder: tt.under}}
		at := f.Earlier[own.After]
		at.Metrics = delivery.Metrics{Invocations: tt.calls, Missed: tt.missed}
		f.Earlier[own.After] = at
		for _, g := range delivery.Gates(t.Context(), delivery.Entry{Own: own}, f) {
			if g.Kind == delivery.SoakGate && g.State != tt.want {
				t.Errorf("%+v: %+v", tt, g)
			}
		}
	}
}

// A version that was requested for a later time waits until then.
func TestRequestsWithATime(t *testing.T) {
	own, f := stage(), fulfilled()
	gate := func() delivery.Gate {
		for _, g := range delivery.Gates(t.Context(), delivery.Entry{Own: own}, f) {
			if g.Kind == delivery.RequestGate {
				return g
			}
		}
		return delivery.Gate{}
	}
	f.NotBefore = f.Now.Add(time.Minute)
	if g := gate(); g.State != delivery.GateWaiting || g.Until != f.NotBefore.UnixMilli() || !strings.Contains(g.Reason, ", not before ") {
		t.Errorf("before: %+v", g)
	}
	f.Now = f.NotBefore
	if g := gate(); g.State != delivery.GatePassed || g.Until != 0 {
		t.Errorf("then: %+v", g)
	}
	f.Requested = ""
	if g := gate(); g.State != delivery.GateWaiting || g.Until != 0 {
		t.Errorf("nobody asked: %+v", g)
	}
}
